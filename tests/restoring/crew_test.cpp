#include "restoring/crew.h"

#include <atomic>
#include <gtest/gtest.h>

namespace dredger {
namespace {

using namespace std::chrono_literals;

TEST(Crew, HandsOverInTheOrderOfTheTasks) {
    Crew<int, int> crew(3, [](int& task) {
        std::this_thread::sleep_for(std::chrono::milliseconds(task % 7 == 0 ? 8 : 0));
        return task * 2;
    });
    for (int n = 0; n < 100; ++n) crew.give(n);
    for (int n = 0; n < 100; ++n) {
        const auto next = crew.take(10s);
        ASSERT_TRUE(next);
        EXPECT_EQ(next->first, n);
        EXPECT_EQ(next->second, 2 * n);
    }
    EXPECT_EQ(crew.waiting(), 0U);
    EXPECT_FALSE(crew.take(1ms));
}

TEST(Crew, NobodyWaitsForThoseThatTakeLong) {
    std::atomic<bool> go = false;
    Crew<int, int> crew(2, [&](int& task) {
        while (task < 0 && !go) std::this_thread::sleep_for(1ms);
        return task;
    });
    for (const int task : {-1, 1, 2, 3}) crew.give(task, task < 0);
    for (const int task : {1, 2, 3}) EXPECT_EQ(crew.take(10s)->first, task);
    EXPECT_FALSE(crew.take(5ms));
    crew.give(-2, true);
    go = true;
    EXPECT_EQ(crew.take(10s)->first, -1);
    EXPECT_EQ(crew.take(10s)->first, -2);
    EXPECT_EQ(crew.waiting(), 0U);
}

TEST(Crew, AnImpatientOneComesBackWithoutAnything) {
    std::atomic<bool> go = false;
    Crew<int, int> crew(1, [&](int& task) {
        while (!go) std::this_thread::sleep_for(1ms);
        return task;
    });
    crew.give(1);
    EXPECT_FALSE(crew.take(5ms));
    go = true;
    EXPECT_TRUE(crew.take(10s));
}

TEST(Crew, EndsWithTasksThatNobodyTook) {
    std::atomic<int> done = 0;
    {
        Crew<int, int> crew(2, [&](int& task) {
            ++done;
            return task;
        });
        for (int n = 0; n < 50; ++n) crew.give(n);
    }
    EXPECT_LE(done, 50);
}

}  // namespace
}  // namespace dredger
