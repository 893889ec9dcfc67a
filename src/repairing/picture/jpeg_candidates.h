// Where parts of a JPEG's header are lost: the headers that it may have had, from what is left of it, from undamaged
// files of the same camera, and from what is usual; and which of them goes with the picture data.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "repairing/picture/jpeg_scan_data.h"
#include "repairing/workbench.h"

namespace dredger::repairing {

struct JpegGuess {
    JpegHeader header;
    std::vector<std::string> what;  // that was lost, and what stands in its place
    bool is_exact = false;          // the picture data decodes with it to its very end
    bool is_tinted = false;         // brightness and colours are guessed, for want of the tables that tell them
    bool starts_late = false;       // the start of the picture data is lost as well
};

// None where nothing goes with the data. Where nothing was lost: the header as it is.
std::optional<JpegGuess> complete_jpeg_header(Reader& content, const JpegHeader& header, Workbench& bench);

}  // namespace dredger::repairing
