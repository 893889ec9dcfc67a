// Works on tasks in several threads and hands over what came of them in the order in which the tasks were given; of
// those that take long, after all others.
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

    void give(Task task, bool takes_long = false) {
        {
            const std::lock_guard guard(lock_);
            Slots& slots = takes_long ? long_ones_ : slots_;
            slots.push_back({std::move(task), std::nullopt});
            to_do_.push_back(&slots.back());
        }
        given_.notify_one();
    }
    std::size_t waiting() const {
        const std::lock_guard guard(lock_);
        return slots_.size() + long_ones_.size();
    }
    // What came of the oldest task; nothing where that takes longer than `patience`, or there is no task.
    std::optional<std::pair<Task, Done>> take(std::chrono::milliseconds patience) {
        std::unique_lock guard(lock_);
        Slots& slots = slots_.empty() ? long_ones_ : slots_;
        if (!done_.wait_for(guard, patience, [&] { return slots.empty() || slots.front().done; }) || slots.empty())
            return std::nullopt;
        std::pair<Task, Done> oldest{std::move(slots.front().task), std::move(*slots.front().done)};
        slots.pop_front();
        return oldest;
    }

  private:
    struct Slot {
        Task task;
        std::optional<Done> done;
    };
    using Slots = std::deque<Slot>;  // oldest first; its elements stay where they are

    void run() {
        std::unique_lock guard(lock_);
        for (;;) {
            given_.wait(guard, [this] { return closed_ || !to_do_.empty(); });
            if (closed_) return;
            Slot& slot = *to_do_.front();
            to_do_.pop_front();
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
    Slots slots_, long_ones_;
    std::deque<Slot*> to_do_;  // that no worker has taken yet
    bool closed_ = false;
    std::vector<std::thread> threads_;
};

}  // namespace dredger
