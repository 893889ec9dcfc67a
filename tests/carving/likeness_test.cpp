// What is alike by its bytes, and where files may end in what nobody holds.
#include "carving/likeness.h"

#include <cmath>
#include <gmock/gmock.h>

#include "carving/endings.h"
#include "support/ringing_log.h"
#include "support/support.h"

namespace dredger {
namespace {

using test::MemoryMedium;
using test::noise;
using testing::ElementsAre;
using testing::IsEmpty;

std::vector<std::byte> tone(std::size_t samples, double phase) {
    std::vector<std::byte> bytes;
    for (std::size_t n = 0; n < samples; ++n) {
        const auto value =
            static_cast<std::uint16_t>(static_cast<int>(2000 * std::sin(phase + 0.02 * static_cast<double>(n))));
        bytes.push_back(static_cast<std::byte>(value & 0xFFU));
        bytes.push_back(static_cast<std::byte>(value >> 8));
    }
    return bytes;
}

TEST(Likeness, WhatGoesOnCostsLessThanWhatIsForeign) {
    const Likeness likeness(tone(8000, 0));
    const double same = likeness.bits_of(tone(4000, 1)), packed = likeness.bits_of(noise(8000, 3)),
                 text = likeness.bits_of(test::bytes_of(test::ringing_log(1, 100)));
    EXPECT_LT(same, 6);
    EXPECT_GT(packed, same + 2);
    EXPECT_GT(text, same + 1);
    EXPECT_EQ(Likeness({}).bits_of(noise(100, 3)), 0) << "nothing was learnt";
    EXPECT_EQ(likeness.bits_of({}), 0);
}

TEST(Endings, AreWhereZerosFillTheLastSector) {
    constexpr std::uint64_t kCluster = 2048;
    auto bytes = noise(8 * kCluster, 3);
    const auto zeros = [&](std::size_t from, std::size_t to) {
        std::fill(bytes.begin() + static_cast<std::ptrdiff_t>(from), bytes.begin() + static_cast<std::ptrdiff_t>(to),
                  std::byte{0});
    };
    bytes[2 * kCluster + 699] = bytes[3 * kCluster + 99] = bytes[6 * kCluster + 699] = std::byte{1};
    zeros(2 * kCluster + 700, 2 * kCluster + 1024);
    zeros(3 * kCluster + 100, 3 * kCluster + 512);
    zeros(6 * kCluster + 700, 6 * kCluster + 1024);
    bytes[5 * kCluster + 500] = std::byte{1};
    zeros(5 * kCluster + 501, 5 * kCluster + 512);  // so few are chance
    zeros(4 * kCluster, 4 * kCluster + 512);        // nothing ends here
    Remains remains(bytes.size(), kCluster);
    remains.hold(Extent{6 * kCluster, kCluster});
    remains.settle();
    const MemoryMedium ground(bytes);
    Coverage all;
    all.add({0, bytes.size()});
    const Endings endings(ground, remains, all, {});
    EXPECT_THAT(endings.of(700), ElementsAre(2 * kCluster + 700));
    EXPECT_THAT(endings.of(kCluster + 700), ElementsAre(2 * kCluster + 700));
    EXPECT_THAT(endings.of(100), ElementsAre(3 * kCluster + 100));
    EXPECT_THAT(endings.of(101), IsEmpty());
    EXPECT_THAT(endings.of(9 * kCluster + 700), IsEmpty()) << "it would begin before the ground";
    Coverage front;
    front.add({0, 2 * kCluster + 512});
    EXPECT_THAT(Endings(ground, remains, front, {}).of(100), IsEmpty()) << "nobody asked for that place";
}

}  // namespace
}  // namespace dredger
