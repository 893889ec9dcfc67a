#include "lives/kinship.h"

#include <gtest/gtest.h>
#include <random>

#include "media/text_medium.h"

namespace dredger::lives {
namespace {

std::string noise(unsigned seed, std::size_t size) {
    std::minstd_rand chance(seed);
    std::string bytes(size, '\0');
    for (char& c : bytes) c = static_cast<char>(chance() >> 8);
    return bytes;
}

Sketch sketch(const std::string& bytes) { return sketch_of(TextMedium(bytes, "content")); }

TEST(Kinship, WhatStandsElsewhereInTheOtherIsFound) {
    const std::string shared = noise(1, 40'000);
    const auto shares =
        kinship(sketch(shared + noise(2, 10'000)),
                {sketch(noise(3, 7'777) + shared), sketch(noise(4, 50'000)), sketch(shared.substr(20'000))});
    EXPECT_GT(shares[0], 0.6);
    EXPECT_LT(shares[1], 0.02);
    EXPECT_GT(shares[2], 0.15);
    EXPECT_LT(shares[2], shares[0]);
}

TEST(Kinship, TheSameIsAllOfItAndNothingIsNone) {
    const std::string one = noise(5, 5'000);
    EXPECT_DOUBLE_EQ(kinship(sketch(one), {sketch(one)})[0], 1.0);
    EXPECT_DOUBLE_EQ(kinship(sketch(one), {Sketch()})[0], 0.0);
    EXPECT_DOUBLE_EQ(kinship(Sketch(), {sketch(one)})[0], 0.0);
    EXPECT_TRUE(sketch(std::string(100'000, 'x')).empty()) << "runs of one byte are in everything";
}

// What a form puts into every document says nothing of which one it was.
TEST(Kinship, WhatManyHaveCountsForLess) {
    const std::string form = noise(6, 30'000), own = noise(7, 3'000);
    const auto shares = kinship(sketch(form + own), {sketch(form + noise(8, 3'000)), sketch(form + noise(9, 3'000)),
                                                     sketch(form + own + "x"), sketch(form + noise(10, 3'000))});
    EXPECT_GT(shares[2], 0.95);
    for (const std::size_t other : {0U, 1U, 3U}) EXPECT_LT(shares[other], 0.8);
}

}  // namespace
}  // namespace dredger::lives
