#include "carving/puzzle.h"

#include <algorithm>

#include "base/in_parallel.h"

namespace dredger {

Puzzle::Puzzle(MediumPtr ground, Remains remains, std::vector<TornFile> files, JoinLimits limits, unsigned workers)
    : ground_(std::move(ground)),
      given_(std::move(remains)),
      remains_(given_),
      files_(std::move(files)),
      pieces_(files_.size()),
      limits_(std::move(limits)),
      workers_(workers_for(workers)) {}

// The beginning of each torn file is its own.
Remains Puzzle::without_heads(Effort effort) const {
    Remains remains = remains_;
    for (std::size_t i = 0; i < files_.size(); ++i)
        if (pieces_[i].is_open) remains.hold({files_[i].start, own_part(files_[i], remains.grain(), effort)});
    remains.settle();
    return remains;
}

std::optional<std::vector<std::optional<Joined>>> Puzzle::round(Effort effort, const Listener& listener) {
    const Remains remains = without_heads(effort);
    JoinLimits limits = limits_;
    limits.effort = effort;
    if (effort <= Effort::seams) limits.most_read /= 4, limits.most_read_again /= 4;
    std::vector<std::optional<Joined>> found(files_.size());
    const bool asks_for_endings = effort >= Effort::near && !limits_.only_proven && !endings_ &&
                                  std::any_of(files_.begin(), files_.end(), [&](const TornFile& file) {
                                      return is_only_sized(file, remains.grain());
                                  });
    if (asks_for_endings) {
        // As far behind and before the files as their rest is likely.
        constexpr std::uint64_t kBefore = 64 << 20, kBehind = 256 << 20;
        Coverage near;
        for (const TornFile& file : files_) {
            const std::uint64_t from = file.start - std::min(file.start, kBefore);
            if (is_only_sized(file, remains.grain()))
                near.add({from, std::min(file.start + kBehind, ground_->size()) - from});
        }
        endings_.emplace(*ground_, remains, near, [&] { return !listener.go_on({0, files_.size(), joined_}); });
        if (!listener.go_on({0, files_.size(), joined_})) return std::nullopt;
    }
    const auto work = [&](std::size_t number, const std::atomic<bool>& stopped) {
        if (!pieces_[number].is_open) return;
        // Where only a length tells, whatever is left fits: what can be shown goes first.
        if (effort < Effort::near && is_only_sized(files_[number], remains.grain())) return;
        JoinLimits own = limits;
        own.stop = [&stopped] { return stopped.load(std::memory_order_relaxed); };
        found[number] = join(*ground_, remains, files_[number], own, endings_ ? &*endings_ : nullptr);
    };
    const auto go_on = [&](std::size_t done) { return listener.go_on({done, files_.size(), joined_}); };
    if (!in_parallel(files_.size(), workers_, work, go_on)) return std::nullopt;
    return found;
}

bool Puzzle::overlaps(const std::vector<Extent>& pieces) const {
    return std::any_of(pieces.begin(), pieces.end(),
                       [&](const Extent& piece) { return remains_.is_held_in_part(piece); });
}

Result<bool> Puzzle::solve(const Listener& listener) {
    constexpr unsigned kMaxCostly = 2;
    unsigned costly = 0;
    bool seams = false;
    Effort effort = Effort::once;
    for (;;) {
        auto found = round(effort, listener);
        if (!found) return false;
        // What only fits waits until nothing more is proven: it may fit where others belong.
        const auto is_proven = [](const std::optional<Joined>& joined) { return joined && joined->is_proven(); };
        const bool is_last = effort == limits_.effort && costly == kMaxCostly;
        const bool only_proven =
            effort != Effort::once && !is_last && std::any_of(found->begin(), found->end(), is_proven);
        bool has_changed = false;
        for (std::size_t i = 0; i < files_.size(); ++i) {
            auto& joined = (*found)[i];
            if (!joined || !joined->is_whole) continue;
            if (!joined->is_proven() && (only_proven || overlaps(joined->pieces))) continue;
            DREDGER_CHECK(listener.take(i, *joined));
            remains_.hold(joined->pieces);
            pieces_[i] = {false, std::move(joined)};
            ++joined_;
            has_changed = true;
        }
        for (std::size_t i = 0; i < files_.size(); ++i) {
            auto& joined = (*found)[i];
            if (!pieces_[i].is_open || !joined) continue;
            if (pieces_[i].best && pieces_[i].best->measured.sure >= joined->measured.sure) continue;
            pieces_[i].best = std::move(joined);
        }
        // What is cheap is tried again as soon as less is left.
        if (has_changed) {
            effort = Effort::once;
        } else if (effort == Effort::once) {
            effort = seams ? limits_.effort : Effort::seams;
            seams = true;
        } else if (effort == Effort::seams) {
            effort = limits_.effort;
        } else {
            break;
        }
        if (effort == limits_.effort && ++costly > kMaxCostly) break;
    }
    for (std::size_t i = 0; i < files_.size(); ++i)
        if (pieces_[i].is_open && pieces_[i].best && !limits_.only_proven)
            DREDGER_CHECK(listener.take(i, *pieces_[i].best));
    DREDGER_CHECK(align_all(listener));
    return true;
}

// Of files that no checksum proves: those that were joined later tell where they can't have been.
Result<void> Puzzle::align_all(const Listener& listener) {
    constexpr std::size_t kMost = 1000;
    if (joined_ > kMost) return {};
    for (std::size_t i = 0; i < files_.size(); ++i) {
        if (pieces_[i].is_open || pieces_[i].best->measured.proof >= Proof::checksums) continue;
        if (!listener.go_on({i, files_.size(), joined_})) return {};
        auto aligned = align(*ground_, without_others(i), files_[i], *pieces_[i].best, limits_);
        if (aligned) {
            pieces_[i].best = std::move(aligned);
            DREDGER_CHECK(listener.take(i, *pieces_[i].best));
        }
    }
    return {};
}

Remains Puzzle::without_others(std::size_t file) const {
    Remains remains = given_;
    for (std::size_t i = 0; i < files_.size(); ++i) {
        if (i == file) continue;
        if (pieces_[i].is_open) {
            remains.hold({files_[i].start, own_part(files_[i], remains.grain(), limits_.effort)});
        } else {
            remains.hold(pieces_[i].best->pieces);
        }
    }
    remains.settle();
    return remains;
}

}  // namespace dredger
