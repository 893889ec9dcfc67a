// The change journal, $Extend/$UsnJrnl:$J: which file was deleted when, under which name and in which folder.
#pragma once

#include <map>
#include <optional>
#include <string>

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

    // Reads all records of deletions in `content`, the stream $J. What can't be read is left out.
    void read(const Medium& content);

    // Null where the journal does not tell.
    const Deletion* find(Reference file) const;
    const std::map<Reference, Deletion>& deletions() const { return deletions_; }

  private:
    std::map<Reference, Deletion> deletions_;
};

}  // namespace dredger::ntfs
