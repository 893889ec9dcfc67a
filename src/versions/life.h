// All that stands of one document: as it is now, deleted, in autosaves, backups, snapshots; the newest first.
#pragma once

#include <map>

#include "base/observer.h"
#include "catalog/catalog.h"

namespace dredger::versions {

struct Life {
    Candidate candidate;
    std::optional<FileTime> when;  // the point in time that its place tells, else its last change
    std::int64_t same_as = 0;      // a newer life with the same bytes; 0: there is none
    // Against the next older life with other bytes.
    struct Change {
        std::int64_t bytes = 0;                                   // more, or fewer
        std::optional<std::uint64_t> words_added, words_removed;  // where both have a text
    };
    std::optional<Change> change;
};

struct Lives {
    std::string path;
    std::vector<Life> lives;
    std::vector<Candidate> notes;  // who had it open, and pictures of it
};

// "as it is now", "deleted", "autosave, deleted" ...
std::string words_of(const Candidate& candidate);

// `media`: by volume, as far as they are attached; without them contents are not compared. What takes longer asks the
// observer whether to go on; then the rest is not compared.
Result<Lives> lives_of(const Catalog& catalog, const std::string& path, const std::map<std::int64_t, MediumPtr>& media,
                       Observer& observer);

}  // namespace dredger::versions
