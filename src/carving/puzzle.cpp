#include "carving/puzzle.h"

#include <algorithm>
#include <atomic>
#include <condition_variable>
#include <mutex>
#include <thread>

namespace dredger {
Puzzle::Puzzle(MediumPtr ground, Remains remains, std::vector<TornFile> files, JoinLimits limits, unsigned workers)
    : ground_(std::move(ground)),
      remains_(std::move(remains)),
      files_(std::move(files)),
      pieces_(files_.size()),
      limits_(std::move(limits)),
      workers_(workers != 0 ? workers : std::max(1U, std::thread::hardware_concurrency())) {}

// The beginning of each torn file is its own.
Remains Puzzle::without_heads(Effort effort) const {
    Remains remains = remains_;
    for (std::size_t i = 0; i < files_.size(); ++i)
        if (pieces_[i].is_open) remains.hold({files_[i].start, own_part(files_[i], remains.grain(), effort)});
    remains.settle();
    return remains;
}

bool Puzzle::overlaps(const std::vector<Extent>& pieces) const {
    for (const Extent& piece : pieces)
        for (std::uint64_t at = piece.offset; at < piece.end(); at += remains_.grain())
            if (remains_.is_held(at)) return true;
    return false;
}

std::optional<std::vector<std::optional<Joined>>> Puzzle::round(Effort effort, const Listener& listener) {
    const Remains remains = without_heads(effort);
    std::vector<std::optional<Joined>> found(files_.size());
    std::atomic<std::size_t> next = 0, done = 0;
    std::atomic<bool> stopped = false;
    std::atomic<unsigned> working = workers_;
    std::mutex guard;
    std::condition_variable changed;
    JoinLimits limits = limits_;
    limits.effort = effort;
    if (effort <= Effort::seams) limits.most_read /= 4, limits.most_read_again /= 4;
    limits.stop = [&] { return stopped.load(std::memory_order_relaxed); };
    const auto work = [&] {
        for (std::size_t i = next++; i < files_.size() && !stopped; i = next++) {
            if (pieces_[i].is_open) found[i] = join(*ground_, remains, files_[i], limits);
            ++done;
        }
        const std::lock_guard lock(guard);
        --working;
        changed.notify_all();
    };
    std::vector<std::thread> threads;
    for (unsigned n = 0; n < workers_; ++n) threads.emplace_back(work);
    {
        constexpr std::chrono::milliseconds kPatience{100};
        std::unique_lock lock(guard);
        while (!changed.wait_for(lock, kPatience, [&] { return working == 0; }))
            if (!listener.go_on({done, files_.size(), joined_})) stopped = true;
    }
    for (std::thread& thread : threads) thread.join();
    if (stopped || !listener.go_on({done, files_.size(), joined_})) return std::nullopt;
    return found;
}

Result<bool> Puzzle::solve(const Listener& listener) {
    constexpr unsigned kMaxCostly = 2;
    unsigned costly = 0;
    bool seams = false;
    Effort effort = Effort::once;
    for (;;) {
        auto found = round(effort, listener);
        if (!found) return false;
        bool has_changed = false;
        for (std::size_t i = 0; i < files_.size(); ++i) {
            auto& joined = (*found)[i];
            if (!joined || !joined->is_whole || (joined->measured.proof < Proof::structure && overlaps(joined->pieces)))
                continue;
            DREDGER_CHECK(listener.take(i, *joined));
            for (const Extent& piece : joined->pieces) remains_.hold(piece);
            pieces_[i] = {false, {}};
            ++joined_;
            has_changed = true;
        }
        for (std::size_t i = 0; i < files_.size(); ++i) {
            auto& joined = (*found)[i];
            if (!joined || !pieces_[i].is_open) continue;
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
        if (effort == limits_.effort && costly++ == kMaxCostly) break;
    }
    for (std::size_t i = 0; i < files_.size(); ++i)
        if (pieces_[i].is_open && pieces_[i].best) DREDGER_CHECK(listener.take(i, *pieces_[i].best));
    return true;
}

}  // namespace dredger
