// Names as a destination can take them. What it can't take is written as "%" and two hexadecimal digits a byte, so that
// the original name can be told from the mapped one.
#pragma once

#include <filesystem>
#include <string>
#include <string_view>

namespace dredger {

struct NameRules {
    bool windows = false;       // of FAT, exFAT, NTFS and shares: reserved names and characters, no point at the end
    bool ignores_case = false;  // "A.JPG" and "a.jpg" are one file
    bool operator==(const NameRules&) const = default;
};

inline constexpr NameRules kUnixNames{};
inline constexpr NameRules kWindowsNames{true, true};

// Those of the file system that `folder` lies on.
NameRules rules_of(const std::filesystem::path& folder);

// One part of a path: no separators or control characters, nothing but UTF-8, not "." or "..", at most 240 bytes. A
// longer one is cut, and "~" and eight digits of its checksum stand in place of the rest.
std::string mapped_part(std::string_view part, const NameRules& rules);
// What mapped_part() made this of, where it was not cut.
std::string original_part(std::string_view mapped);

// The relative path for an original path; never empty, never leaving the destination.
std::filesystem::path mapped_path(std::string_view original, const NameRules& rules);

// By which two paths are one to the destination.
std::string path_key(const std::filesystem::path& path, const NameRules& rules);

}  // namespace dredger
