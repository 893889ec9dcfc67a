// Reads the entries of one directory, live and deleted, and puts long names back to their short entries.
#pragma once

#include <span>
#include <string>
#include <vector>

#include "base/times.h"
#include "filesystems/fat/names.h"

namespace dredger::fat {

// One 32-byte entry and where it stands.
struct Slot {
    std::uint64_t offset = 0;  // bytes from the start of the volume
    DirectoryEntry entry;
};

enum class LongName {
    none,
    whole,
    cut,  // its last pieces are overwritten: `long_name` is only the beginning
};

struct DirectoryItem {
    std::uint64_t offset = 0;  // of the short entry, bytes from the start of the volume
    DirectoryEntry entry;
    ShortName short_name{};   // with the first byte as far as it is known
    bool first_known = true;  // false: deletion overwrote the first byte and nothing tells it
    bool deleted = false;     // marked as deleted, or behind the directory's end mark
    bool behind_end = false;
    LongName long_state = LongName::none;
    std::u16string long_name;
};

// All entries that are files, folders or labels. Deleted ones, and those behind the end mark, only where they make
// sense as an entry; long names only where checksum and characters tie them to their short entry.
std::vector<DirectoryItem> read_items(std::span<const Slot> slots);

std::optional<FileTime> created(const DirectoryEntry& entry);
std::optional<FileTime> modified(const DirectoryEntry& entry);
// When an entry's clusters were taken, as well as it tells: created, or else modified.
std::optional<FileTime> written(const DirectoryEntry& entry);

// Whether a deleted or stale entry makes sense: its characters, attributes, dates.
bool makes_sense(const DirectoryEntry& entry, bool with_first);

// Whether a cluster holds directory entries that continue a directory: it does not begin one itself.
bool continues_directory(std::span<const Slot> cluster);

// Whether a cluster begins a directory: entries "." and "..". `self` and `parent` are what these point to.
struct DotEntries {
    std::uint32_t self = 0;
    std::uint32_t parent = 0;  // 0: the root
};
std::optional<DotEntries> dot_entries(std::span<const Slot> cluster);

}  // namespace dredger::fat
