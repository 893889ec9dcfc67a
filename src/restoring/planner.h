// What is to become of each selected file, decided before anything of it is read or written: a place, or a refusal.
#pragma once

#include "restoring/books.h"
#include "restoring/job.h"
#include "restoring/landing.h"
#include "restoring/restore.h"

namespace dredger {

struct Plan {
    struct Refusal {
        Outcome outcome;
        std::string why;
    };
    std::filesystem::path place;     // below the destination; empty: its content is asked first
    std::optional<Refusal> refusal;  // nothing is written
    std::uint64_t number = 0;        // running, of files that were given a name
    std::uint64_t bytes = 0;         // of the destination that it takes
};

// How it will come back, if all of its bytes can be read.
inline Outcome expected(const Candidate& candidate) {
    return candidate.prospect.band == Band::sound ? Outcome::whole : Outcome::doubtful;
}

// Used by one thread, but for what is const.
class Planner {
  public:
    // All of these outlive it.
    Planner(const RestoreRequest& request, const NameRules& rules, Books& books, const Landing& landing)
        : request_(request), rules_(rules), books_(books), landing_(landing) {}

    Plan plan(const Job& job, const Candidate& candidate);

    // Whether places can't be known before content was looked at.
    bool asks_content() const;
    // Where a file would like to go. `said` where content is asked.
    std::filesystem::path wanted(const Job& job, const Candidate& candidate, const Description* said,
                                 std::uint64_t number) const;
    // Of its volume, below the destination; empty: the destination itself.
    static std::filesystem::path folder_for(const Job& job, const Candidate& candidate);

  private:
    const RestoreRequest& request_;
    const NameRules& rules_;
    Books& books_;
    const Landing& landing_;
    std::uint64_t number_ = 0;
};

}  // namespace dredger
