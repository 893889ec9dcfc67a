// Names for files that no record tells of.
#pragma once

#include <string>

#include "formats/format.h"

namespace dredger {

// What the content says of itself, made fit for a file name, with the format's extension; "unnamed-KIND-ID.ext" where
// it says nothing.
std::string name_of_find(const Description& said, const Format& format, std::int64_t id);

}  // namespace dredger
