// The change journal, $Extend/$UsnJrnl:$J: which file was deleted when, under which name and in which folder, and what
// was done to it before.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/times.h"
#include "filesystems/ntfs/folders.h"
#include "media/medium.h"

namespace dredger::ntfs {

class UsnJournal {
  public:
    struct Deletion {
        FileTime when;
        Reference parent;
        std::string name;
        bool is_folder = false;
    };

    // What happened to a file while it was open, or the name that it lost.
    struct Event {
        FileTime when;
        std::uint32_t reason = 0;  // USN_REASON_...
        std::string name;          // that it had then
    };

    // Reads all records of deletions in `content`, the stream $J. What can't be read is left out.
    void read(const Medium& content);

    // Null where the journal does not tell.
    const Deletion* find(Reference file) const;
    const std::map<Reference, Deletion>& deletions() const { return deletions_; }

    // Of a file that was deleted, the oldest first: "2026-05-03 10:11 created".
    std::vector<std::string> history_of(Reference file) const;

  private:
    std::map<Reference, Deletion> deletions_;
    std::map<Reference, std::vector<Event>> events_;
};

}  // namespace dredger::ntfs
