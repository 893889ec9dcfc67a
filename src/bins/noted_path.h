// Paths as the notes of trashes have them.
#pragma once

#include <string>
#include <string_view>

namespace dredger {

// Whether it is digits alone, as a user's number is.
bool is_number(std::string_view text);

// The parts of a path without those that are empty or lead up, so that no note climbs out of a volume.
std::string plain_path(std::string_view noted);

}  // namespace dredger
