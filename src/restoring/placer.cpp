#include "restoring/placer.h"

namespace dredger {
namespace {

// Where the destination is slow in giving names, those who write wait for it, and memory does not.
constexpr std::size_t kMaxWaiting = 1024;

}  // namespace

Placer::Placer() : thread_([this] { run(); }) {}

Placer::~Placer() {
    {
        const std::lock_guard guard(lock_);
        is_closed_ = true;
    }
    given_.notify_all();
    thread_.join();
}

void Placer::give(Placement placement) {
    {
        std::unique_lock guard(lock_);
        done_.wait(guard, [this] { return waiting_.size() < kMaxWaiting; });
        waiting_.push_back(std::move(placement));
    }
    given_.notify_one();
}

std::vector<Placer::Failure> Placer::failures() {
    const std::lock_guard guard(lock_);
    return std::exchange(failures_, {});
}

std::vector<Placer::Failure> Placer::rest() {
    std::unique_lock guard(lock_);
    done_.wait(guard, [this] { return waiting_.empty() && !is_busy_; });
    return std::exchange(failures_, {});
}

void Placer::run() {
    std::unique_lock guard(lock_);
    for (;;) {
        given_.wait(guard, [this] { return is_closed_ || !waiting_.empty(); });
        if (waiting_.empty()) return;
        std::vector<Placement> some = std::exchange(waiting_, {});
        is_busy_ = true;
        done_.notify_all();
        guard.unlock();
        std::vector<Failure> failed;
        for (Placement& one : some)
            if (auto placed = one.file.place(one.target); !placed)
                failed.push_back({std::move(one), std::move(placed.error())});
        some.clear();
        guard.lock();
        for (Failure& failure : failed) failures_.push_back(std::move(failure));
        is_busy_ = false;
        done_.notify_all();
    }
}

}  // namespace dredger
