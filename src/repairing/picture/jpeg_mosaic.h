// Puts a sequential JPEG's picture together from what of its data makes sense: each stretch of it is put where it
// belongs, by how many MCUs are left behind it and by how well it goes with its neighbours.
#pragma once

#include "repairing/picture/jpeg_picture.h"
#include "repairing/picture/jpeg_scan_data.h"

namespace dredger::repairing {

struct JpegMosaic {
    JpegPicture picture;
    std::size_t damaged_places = 0;  // at which decoding stopped making sense
    std::size_t jumps = 0;           // at which brightness or a colour was off from there on, though all decodes
    bool is_tinted = false;          // brightness and colours are guessed: nothing tells what they began with
    bool is_complete = false;        // every MCU decoded at the first try, and the data ended with the last one
};

// `starts_late`: the data begins somewhere in the picture, or with something foreign.
JpegMosaic piece_together(const JpegHeader& header, const JpegScanData& data, bool starts_late,
                          const std::function<bool()>& should_stop);

}  // namespace dredger::repairing
