// File names of FAT: how short and long ones go together, and what can be told of a short name whose first character
// deletion overwrote.
#pragma once

#include <array>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/text.h"
#include "filesystems/fat/structures.h"

namespace dredger::fat {

using ShortName = std::array<std::uint8_t, 11>;

// The checksum that ties long-name entries to their short entry (specification, "ChkSum").
std::uint8_t checksum(const ShortName& name);

// The first byte with which `name` has this checksum. There is always exactly one; whether a name can begin with it
// is for the caller to ask.
std::uint8_t first_byte_for(const ShortName& name, std::uint8_t wanted);

bool can_begin(std::uint8_t first);

// Whether these can be the characters of a short name; the first one is left out of it where it is not known.
bool is_short_name(const ShortName& name, bool with_first);

// "NEST0001.JPG", with the lower-case flags of DIR_NTRes followed.
std::string shown(const ShortName& name, std::uint8_t nt_flags, CodePage page);

// Whether a driver could have made `short_name` for `long_name`: the same first characters and the same extension, as
// far as both can be compared.
bool fits(std::u16string_view long_name, const ShortName& short_name);

// Whether a long name could have been written: no characters that are forbidden in one.
bool is_long_name(std::u16string_view name);

// The first character of a short name that has lost it, from the names around it: those that differ from it in
// their digits only, or are otherwise equal. Nothing where there are none or they don't agree.
std::optional<std::uint8_t> first_byte_from_neighbours(const ShortName& name, const std::vector<ShortName>& neighbours);

// The same from the names that cameras, phones and scanners give: four characters of their own and four digits (DCF,
// JEITA CP-3461), and the folders that hold them. Nothing where none or more than one goes with the rest.
std::optional<std::uint8_t> first_byte_of_device_name(const ShortName& name, bool is_folder);

}  // namespace dredger::fat
