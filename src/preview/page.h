// The page to look through and pick from: one file that needs no network and runs nothing that came from the medium.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "catalog/candidate.h"
#include "preview/tile.h"

namespace dredger::preview {

struct Shown {
    Candidate candidate;
    Tile tile;
    std::string volume;        // its name, where there are several
    std::uint64_t copies = 0;  // finds with the same content, itself among them; 0: no other
};

// What the page is of.
struct PageFacts {
    std::string catalog;        // the name by which a pick list refers to it
    std::string uuid;           // the catalog's: a page made anew keeps its ticks
    std::size_t looked_at = 0;  // fewer than are shown where it was interrupted
};

std::string page_of(const std::vector<Shown>& shown, const PageFacts& facts);

}  // namespace dredger::preview
