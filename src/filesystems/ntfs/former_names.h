// The names that folders still remember, put in order: by the file that they belonged to, each once.
#pragma once

#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "filesystems/ntfs/index_slack.h"

namespace dredger::ntfs {

class FormerNames {
  public:
    // In any order; more than some hundred thousand are left out.
    void add(std::vector<FormerName>&& found);
    // After the last add() and before anything else. Entries are moved as an index changes, which leaves several copies
    // of one name.
    void seal();

    const std::vector<FormerName>& all() const { return names_; }

    // One after the other those whose file has at most this number; null where none is left. Numbers rise.
    const FormerName* next_upto(std::uint64_t number);

    // A name of the file that had or has this record in this life; null where none is remembered.
    const FormerName* find(std::uint64_t number, std::uint16_t sequence, bool in_use) const;

    // A record has this name: those that don't tell their file are taken to be its.
    void account_for(const Name& name);
    // Those that don't tell their file and belong to no record.
    std::vector<const FormerName*> unaccounted() const;

  private:
    std::vector<FormerName> names_;  // by file; those that don't tell it at the end
    std::size_t next_ = 0;           // of names_, for next_upto()
    std::unordered_map<std::uint64_t, std::vector<std::size_t>>
        nameless_;                               // those that don't tell their file, by a hash
    std::unordered_set<std::size_t> accounted_;  // of these
};

// Whether both are the same name in the same folder.
bool is_same_name(const Name& a, const Name& b);

}  // namespace dredger::ntfs
