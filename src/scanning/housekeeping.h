// What systems keep for themselves on a volume: nobody's loss, and in the way among what is.
#pragma once

#include <string_view>

namespace dredger {

// Whether a file at this path on its volume is such: a page file, a bin's notes, an index of a desktop's search. What a
// file system marks as its own is told by its reader.
bool is_housekeeping(std::string_view path);

}  // namespace dredger
