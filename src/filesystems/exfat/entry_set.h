// The entries of a directory put together: a file, its stream, and its name.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "base/times.h"
#include "filesystems/exfat/structures.h"
#include "filesystems/exfat/upcase.h"

namespace dredger::exfat {

// One entry with its place on the volume.
struct Slot {
    std::uint8_t bytes[kEntrySize] = {};
    std::uint64_t offset = 0;

    std::uint8_t type() const { return bytes[0]; }
    // The type that it had while it was in use.
    std::uint8_t live_type() const { return bytes[0] | kInUse; }
    bool in_use() const { return (bytes[0] & kInUse) != 0; }

    template <class Entry>
    Entry as() const {
        static_assert(sizeof(Entry) == kEntrySize);
        Entry entry;
        std::memcpy(&entry, bytes, kEntrySize);
        return entry;
    }
};

struct EntrySet {
    std::uint64_t offset = 0;  // of its first entry that stands, on the volume
    bool deleted = false;
    bool behind_end = false;      // it lies behind the end of its directory
    bool has_file = true;         // false: the first entry is overwritten, and with it times and attributes
    bool checksum_agrees = true;  // of the whole set
    bool name_is_whole = true;
    bool name_agrees = true;  // with its hash
    std::u16string name;
    std::uint16_t attributes = 0;
    std::optional<FileTime> created, modified, accessed;
    bool no_fat_chain = false;
    std::uint32_t first_cluster = 0;
    std::uint64_t valid_length = 0;  // bytes
    std::uint64_t length = 0;        // bytes

    bool is_folder() const { return (attributes & kDirectory) != 0; }
    // Proven by the checksum of the set or, where that is gone, by the hash of the name.
    bool is_proven() const { return has_file ? checksum_agrees : name_is_whole && name_agrees; }
};

// All entries that fit into `bytes`.
std::vector<Slot> slots_in(ByteView bytes);

// The sets among `slots`, live and deleted, in order.
std::vector<EntrySet> read_sets(const std::vector<Slot>& slots, const Upcase& upcase);

// 6.3.3, as it was before the set was deleted.
std::uint16_t set_checksum(const Slot* slots, std::size_t count);

}  // namespace dredger::exfat
