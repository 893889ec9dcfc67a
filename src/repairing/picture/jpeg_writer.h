// Writes a picture's coefficients as a JPEG, without decoding and encoding them again.
#pragma once

#include <optional>
#include <string>
#include <utility>

#include "repairing/picture/jpeg_picture.h"

namespace dredger::repairing {

// A segment of application data or a comment, by its marker.
using JpegSegment = std::pair<std::uint8_t, std::string>;

// Blocks that are not known are grey. None where the header is nothing that can be written.
std::optional<std::string> write_jpeg(const JpegHeader& header, const JpegPicture& picture,
                                      const std::vector<JpegSegment>& segments);

// Decodes a JPEG of any kind, as far as that goes, and writes its coefficients anew; `was_damaged`: something in it had
// to be made up.
std::optional<std::string> rewrite_jpeg(const std::string& jpeg, const std::vector<JpegSegment>& segments,
                                        bool& was_damaged);

}  // namespace dredger::repairing
