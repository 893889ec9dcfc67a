#include "base/in_parallel.h"

#include <algorithm>
#include <chrono>
#include <condition_variable>
#include <mutex>
#include <thread>
#include <vector>

namespace dredger {

unsigned workers_for(unsigned wanted) {
    return wanted != 0 ? wanted : std::max(1U, std::thread::hardware_concurrency());
}

bool in_parallel(std::size_t count, unsigned workers,
                 const std::function<void(std::size_t number, const std::atomic<bool>& stopped)>& work,
                 const std::function<bool(std::size_t done)>& go_on) {
    constexpr std::chrono::milliseconds kPatience{100};
    std::atomic<std::size_t> next = 0, done = 0;
    std::atomic<bool> stopped = false;
    std::mutex guard;
    std::condition_variable changed;
    unsigned working = workers;
    std::vector<std::thread> threads;
    for (unsigned n = 0; n < workers; ++n)
        threads.emplace_back([&] {
            for (std::size_t number = next++; number < count && !stopped; number = next++) {
                work(number, stopped);
                ++done;
            }
            const std::lock_guard lock(guard);
            --working;
            changed.notify_all();
        });
    {
        std::unique_lock lock(guard);
        while (!changed.wait_for(lock, kPatience, [&] { return working == 0; }))
            if (!go_on(done)) stopped = true;
    }
    for (std::thread& thread : threads) thread.join();
    return !stopped && go_on(done);
}

}  // namespace dredger
