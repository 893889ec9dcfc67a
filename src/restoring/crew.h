// Works on tasks in several threads and hands over what came of them in the order in which the tasks were given.
#pragma once

#include <algorithm>
#include <chrono>
#include <condition_variable>
#include <deque>
#include <functional>
#include <mutex>
#include <optional>
#include <thread>
#include <vector>

namespace dredger {

template <class Task, class Done>
class Crew {
  public:
    Crew(unsigned workers, std::function<Done(Task&)> work) : work_(std::move(work)) {
        for (unsigned n = 0; n < std::max(1U, workers); ++n) threads_.emplace_back([this] { run(); });
    }
    ~Crew() {
        {
            const std::lock_guard guard(lock_);
            closed_ = true;
        }
        given_.notify_all();
        for (std::thread& thread : threads_) thread.join();
    }
    Crew(const Crew&) = delete;
    Crew& operator=(const Crew&) = delete;

    void give(Task task) {
        {
            const std::lock_guard guard(lock_);
            slots_.push_back({std::move(task), std::nullopt});
        }
        given_.notify_one();
    }
    std::size_t waiting() const {
        const std::lock_guard guard(lock_);
        return slots_.size();
    }
    // What came of the oldest task; nothing where that takes longer than `patience`, or there is no task.
    std::optional<std::pair<Task, Done>> take(std::chrono::milliseconds patience) {
        std::unique_lock guard(lock_);
        if (!done_.wait_for(guard, patience, [this] { return slots_.empty() || slots_.front().done; }) ||
            slots_.empty())
            return std::nullopt;
        std::pair<Task, Done> oldest{std::move(slots_.front().task), std::move(*slots_.front().done)};
        slots_.pop_front();
        --taken_;
        return oldest;
    }

  private:
    struct Slot {
        Task task;
        std::optional<Done> done;
    };

    void run() {
        std::unique_lock guard(lock_);
        for (;;) {
            given_.wait(guard, [this] { return closed_ || taken_ < slots_.size(); });
            if (closed_) return;
            Slot& slot = slots_[taken_++];  // a deque's elements stay where they are
            guard.unlock();
            Done done = work_(slot.task);
            guard.lock();
            slot.done = std::move(done);
            done_.notify_one();
        }
    }

    std::function<Done(Task&)> work_;
    mutable std::mutex lock_;
    std::condition_variable given_, done_;
    std::deque<Slot> slots_;  // oldest first
    std::size_t taken_ = 0;   // of them, by workers
    bool closed_ = false;
    std::vector<std::thread> threads_;
};

}  // namespace dredger
