// By how much a JPEG's quantisation tables, which are lost, scaled those of the specification: all of them by about the
// same, which shows in how bright the brightest and the darkest of the picture are.
#pragma once

#include "repairing/picture/jpeg_scan_data.h"

namespace dredger::repairing {

// Of the table that stands, where one does; else from the data, which decodes with the header but for its quantisation.
// With the thumbnail of a camera the contrast is that of the thumbnail, else what fits between black and white.
float quantization_scale(Reader& content, const JpegHeader& header, const JpegScanData& data);

}  // namespace dredger::repairing
