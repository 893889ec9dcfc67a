// Unpacking the same content again and again, with other bytes behind a place each time.
#include "formats/stream_memory.h"

#include <gtest/gtest.h>
#include <random>

#include "support/ringing_log.h"
#include "support/support.h"

namespace dredger::formats {
namespace {

using test::gzipped;
using test::ringing_log;
using Bytes = std::vector<std::byte>;

struct Result {
    Unpacked unpacked;
    std::uint64_t spent;
};

Result unpacked_with(StreamMemory& memory, const Bytes& bytes, std::uint64_t kept) {
    const test::MemoryMedium medium(bytes);
    Budget budget;
    Reader reader(medium, budget);
    memory.keep(kept);
    reader.remember(memory);
    Unpacked unpacked = unpack(reader, Packing::gzip, 0, medium.size(), 20);
    return {std::move(unpacked), budget.bytes_spent()};
}

void expect_same(const Unpacked& a, const Unpacked& b) {
    EXPECT_EQ(a.state, b.state);
    EXPECT_EQ(a.packed, b.packed);
    EXPECT_EQ(a.bytes, b.bytes);
    EXPECT_EQ(a.crc, b.crc);
    EXPECT_EQ(a.head, b.head);
}

Unpacked unpacked_alone(const Bytes& bytes) {
    const test::MemoryMedium medium(bytes);
    Budget budget;
    Reader reader(medium, budget);
    return unpack(reader, Packing::gzip, 0, medium.size(), 20);
}

TEST(StreamMemory, WhatEndedIsNotUnpackedAgain) {
    const Bytes packed = gzipped(ringing_log(1, 20000));
    StreamMemory memory;
    const Result first = unpacked_with(memory, packed, 0);
    ASSERT_TRUE(first.unpacked.ended());
    expect_same(first.unpacked, unpacked_alone(packed));
    const Result again = unpacked_with(memory, packed, packed.size());
    expect_same(again.unpacked, first.unpacked);
    EXPECT_EQ(again.spent, 0U);
}

TEST(StreamMemory, GoesOnFromBeforeWhereTheContentDiffers) {
    const Bytes packed = gzipped(ringing_log(1, 20000));
    const std::size_t split = packed.size() / 2;
    Bytes torn(packed.begin(), packed.begin() + static_cast<std::ptrdiff_t>(split));
    torn.resize(packed.size(), std::byte{0xFF});
    StreamMemory memory;
    const Result first = unpacked_with(memory, torn, 0);
    EXPECT_FALSE(first.unpacked.ended());
    const Result whole = unpacked_with(memory, packed, split);
    expect_same(whole.unpacked, unpacked_alone(packed));
    StreamMemory none;
    EXPECT_LT(whole.spent, unpacked_with(none, packed, 0).spent * 2 / 3);
    // Nothing of it counts when the content is another one.
    expect_same(unpacked_with(memory, gzipped(ringing_log(2, 20000)), 0).unpacked,
                unpacked_alone(gzipped(ringing_log(2, 20000))));
}

TEST(StreamMemory, TellsWhereAnotherPackedTextFollows) {
    const Bytes packed = gzipped(ringing_log(1, 20000)), other = gzipped(ringing_log(3, 20000));
    const std::size_t split = packed.size() / 2 / 4096 * 4096;
    Bytes mixed(packed.begin(), packed.begin() + static_cast<std::ptrdiff_t>(split));
    mixed.insert(mixed.end(), other.begin() + 5000, other.end());
    StreamMemory memory;
    const Unpacked found = unpacked_with(memory, mixed, 0).unpacked;
    EXPECT_FALSE(found.ended());
    EXPECT_GE(found.alike + 4096, split);
    EXPECT_LE(found.alike, split + 4096);
}

TEST(StreamMemory, ForgetsNothingOfWhatComesOutOfALongStream) {
    const Bytes packed = gzipped(ringing_log(1, 200000));
    StreamMemory memory;
    expect_same(unpacked_with(memory, packed, 0).unpacked, unpacked_alone(packed));
    Bytes damaged = packed;
    damaged[packed.size() - 9000] ^= std::byte{0x40};
    EXPECT_FALSE(unpacked_with(memory, damaged, packed.size() - 9000).unpacked.ended());
    expect_same(unpacked_with(memory, packed, packed.size() - 9000).unpacked, unpacked_alone(packed));
}

TEST(Familiarity, OneKindOfContentDoesNotChange) {
    Familiarity familiarity;
    const std::string log = ringing_log(1, 5000);
    for (std::size_t at = 0; at + 1024 <= log.size(); at += 1024) {
        familiarity.add(std::as_bytes(std::span(log).subspan(at, 1024)));
        familiarity.mark(at + 1024);
    }
    EXPECT_EQ(familiarity.change(), std::nullopt);
}

TEST(Familiarity, ScatteredWordsAreAChange) {
    constexpr std::size_t kAt = 64 << 10, kStretch = 1024;
    std::string log = ringing_log(1, 5000);
    std::mt19937 random(7);
    for (std::size_t at = kAt; at + 4 < log.size(); at += 3)
        std::swap(log[at], log[kAt + random() % (log.size() - kAt)]);
    Familiarity familiarity;
    for (std::size_t at = 0; at + kStretch <= log.size(); at += kStretch) {
        familiarity.add(std::as_bytes(std::span(log).subspan(at, kStretch)));
        familiarity.mark(at + kStretch);
    }
    const auto change = familiarity.change();
    ASSERT_TRUE(change);
    EXPECT_GE(*change + kStretch, kAt);
    EXPECT_LE(*change, kAt + kStretch);
    EXPECT_FALSE(familiarity.change(0, kAt / 2));
}

}  // namespace
}  // namespace dredger::formats
