// What helps to recognise one candidate: a picture of it, facts, text, a sound clip.
#pragma once

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "base/fact.h"
#include "catalog/candidate.h"
#include "media/medium.h"

namespace dredger::preview {

constexpr int kTileWidth = 480, kTileHeight = 360;  // pixels

struct Tile {
    bool has_picture = false;  // in tiles/ID.png
    bool has_clip = false;     // in clips/ID.wav
    bool has_page = false;     // a document's first page, large enough to read, in pages/ID.png
    bool has_message = false;  // as a page of its own, in messages/ID.html
    std::string text;          // the first page
    std::vector<Fact> facts;
    std::uint64_t likeness = 0;  // of a picture; 0: none
    bool failed = false;         // its decoder crashed or met a limit
};

// What a picture or the first frame of a video looks like; 0 where nothing can be seen. In a process of its own.
std::uint64_t likeness_in(const Medium& content, const Candidate& candidate);

// Looks at the content in a process of its own and writes what is to be seen and heard below `folder`; where that is
// empty, nothing is written.
Tile make_tile(const Medium& content, const Candidate& candidate, const std::filesystem::path& folder);

}  // namespace dredger::preview
