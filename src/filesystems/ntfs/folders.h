// The folders of a volume, by record number, and the paths that lead through them.
#pragma once

#include <map>
#include <string>
#include <unordered_map>
#include <vector>

#include "filesystems/ntfs/structures.h"

namespace dredger::ntfs {

// A record in one of its lives.
struct Reference {
    std::uint64_t number = 0;
    std::uint16_t sequence = 0;

    auto operator<=>(const Reference&) const = default;
};

inline Reference reference_of(const MftSegmentReference& on_disk) { return {on_disk.number(), on_disk.SequenceNumber}; }

// Whether a record that now has `sequence` and is in use or not is still the one that was referred to: its sequence
// number rises by one when it is freed (0 is left out), so a freed record is still the file that it was.
bool is_same_life(std::uint16_t referred, std::uint16_t sequence, bool in_use);

// The sequence number that a freed record had while it was in use.
std::uint16_t sequence_before_freeing(std::uint16_t sequence);

class Folders {
  public:
    // In rising order of numbers.
    void add(std::uint64_t number, std::uint16_t sequence, bool in_use, Reference parent, std::string_view name);
    // A folder whose record was given to another file since, known by something else.
    void add_former(Reference folder, Reference parent, std::string_view name);

    // UTF-8, parts joined with '/', empty for the root. Where a folder is not known any more "(folder N)" stands for it
    // and all above it.
    const std::string& path_of(Reference folder);

  private:
    struct Entry {
        std::uint64_t number;
        Reference parent;
        std::uint32_t name_at;  // in names_
        std::uint16_t name_length;
        std::uint16_t sequence;
        bool in_use;
    };
    const Entry* find(Reference folder) const;

    std::vector<Entry> entries_;
    std::string names_;
    std::map<Reference, std::pair<Reference, std::string>> former_;
    std::map<Reference, std::string> paths_;  // of folders that were asked for lately
};

}  // namespace dredger::ntfs
