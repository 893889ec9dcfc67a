// All torn files of a ground at once: each that is put together leaves less in which the others may go on.
#pragma once

#include <functional>

#include "carving/joining.h"

namespace dredger {

class Puzzle {
  public:
    struct Progress {
        std::size_t done = 0, all = 0;  // files that were looked at in this round
        std::size_t joined = 0;
    };
    // Called by the thread that solves.
    struct Listener {
        // Now and then; false ends it.
        std::function<bool(const Progress&)> go_on;
        // Of the files given: when it is whole, or at the end what it came to. Where two pieces of a whole one meet may
        // be told once more when all others lie in their places.
        std::function<Result<void>(std::size_t file, const Joined& joined)> take;
    };

    // `remains`: without what whole files hold. `ground` may be read by several threads.
    Puzzle(MediumPtr ground, Remains remains, std::vector<TornFile> files, JoinLimits limits, unsigned workers = 0);

    // False where it was ended. The same for any number of workers.
    Result<bool> solve(const Listener& listener);

  private:
    struct Piece {
        bool is_open = true;
        std::optional<Joined> best;  // whole where it is not open
    };
    // Nothing where it was ended.
    std::optional<std::vector<std::optional<Joined>>> round(Effort effort, const Listener& listener);
    Remains without_heads(Effort effort) const;
    bool overlaps(const std::vector<Extent>& pieces) const;
    Result<void> align_all(const Listener& listener);
    Remains without_others(std::size_t file) const;

    MediumPtr ground_;
    Remains given_, remains_;  // at first, and without what was joined
    std::optional<Endings> endings_;
    std::vector<TornFile> files_;
    std::vector<Piece> pieces_;
    JoinLimits limits_;
    unsigned workers_;
    std::size_t joined_ = 0;
};

}  // namespace dredger
