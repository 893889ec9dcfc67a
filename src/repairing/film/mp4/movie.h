// Films of boxes (ISO/IEC 14496-12, QuickTime File Format): their tracks, as far as what stands of an index tells of
// them, and an index made anew.
#pragma once

#include <string>
#include <vector>

#include "formats/reader.h"
#include "repairing/workbench.h"

namespace dredger::repairing {

struct FilmSample {
    std::uint64_t at = 0;        // byte of the content
    std::uint64_t size = 0;      // bytes
    std::uint32_t duration = 0;  // in the track's time scale; of plain sound: frames of it
    std::int32_t shift = 0;      // from when it is decoded to when it is shown
    bool is_sync = true;         // decoding can begin with it

    std::uint64_t end() const { return at + size; }
};

struct FilmTrack {
    std::string handler;          // "vide", "soun" ...
    std::string codec;            // of its sample description: "avc1", "mp4a" ...
    std::string description;      // the box of that, whole
    std::uint32_t timescale = 0;  // units a second
    std::uint32_t usual_duration = 0;
    std::string track_header, media_header,
        handler_box;                               // tkhd, vmhd or smhd or what it has, hdlr: whole; may be empty
    std::uint32_t frame_size = 0;                  // plain sound: bytes of one frame; 0: it is packed
    std::vector<std::uint64_t> usual_chunks = {};  // of plain sound: bytes that stand together, the commonest first
    std::vector<FilmSample> samples;
    bool is_complete = false;  // all of its tables made sense

    bool is_video() const { return handler == "vide"; }
    bool is_sound() const { return handler == "soun"; }
    bool can_be_used() const { return !codec.empty() && timescale > 0; }
};

struct Film {
    std::uint32_t timescale = 1000;
    std::vector<FilmTrack> tracks;
    bool has_index = false;  // all of it stands where it should; else tracks are what could be found of them
    bool is_fragmented = false;
};

// A box, wherever it is, as far as it lies within the content.
struct FilmBox {
    std::uint64_t at = 0, start = 0, end = 0;  // bytes of the content; what it holds begins at `start`
    std::string name;
    bool is_cut = false;  // it says that it reaches further
};
std::optional<FilmBox> film_box_at(Reader& content, std::uint64_t at, std::uint64_t limit);

// From the index of the film, or from what can be found of one; with the samples that its fragments tell of.
Film read_film(Reader& content);

// The index of these tracks, as the box `moov`. `data_shift`: how much further on its samples stand in the new file.
std::string index_of(const Film& film, std::int64_t data_shift);

}  // namespace dredger::repairing
