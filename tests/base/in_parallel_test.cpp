// The same work on many things at once.
#include "base/in_parallel.h"

#include <gmock/gmock.h>

namespace dredger {
namespace {

TEST(InParallel, EveryNumberIsWorkedOnOnce) {
    for (const unsigned workers : {1U, 4U}) {
        std::vector<std::atomic<int>> count(1000);
        std::size_t told = 0;
        EXPECT_TRUE(in_parallel(
            count.size(), workers, [&](std::size_t n, const std::atomic<bool>&) { ++count[n]; },
            [&](std::size_t done) { return told = done, true; }));
        for (const auto& one : count) EXPECT_EQ(one, 1);
        EXPECT_EQ(told, count.size());
    }
    EXPECT_TRUE(in_parallel(
        0, 2, [](std::size_t, const std::atomic<bool>&) { FAIL(); }, [](std::size_t) { return true; }));
}

TEST(InParallel, WhoIsToldToStopDoesSo) {
    std::atomic<std::size_t> begun = 0;
    EXPECT_FALSE(in_parallel(
        1000, 2,
        [&](std::size_t, const std::atomic<bool>& stopped) {
            ++begun;
            while (!stopped) std::atomic_thread_fence(std::memory_order_seq_cst);
        },
        [](std::size_t) { return false; }));
    EXPECT_EQ(begun, 2U);
}

}  // namespace
}  // namespace dredger
