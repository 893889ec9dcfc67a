// The same work on many things at once.
#pragma once

#include <atomic>
#include <cstddef>
#include <functional>

namespace dredger {

// 0: as many as the machine has processors.
unsigned workers_for(unsigned wanted);

// Calls `work` once for each number below `count`, from so many threads. The calling thread asks `go_on` now and then,
// with how many are done; when it says no, nothing more is begun, and `work` sees it in `stopped`. False then.
bool in_parallel(std::size_t count, unsigned workers,
                 const std::function<void(std::size_t number, const std::atomic<bool>& stopped)>& work,
                 const std::function<bool(std::size_t done)>& go_on);

}  // namespace dredger
