// Ten thousand damaged copies of real exFAT media.
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "base/bytes.h"
#include "support/walked.h"

namespace dredger {
namespace {

// Boot regions, the FAT, and everything that is a folder. Both boot regions must be hit alike to be taken for good.
std::vector<std::uint64_t> tender_places(const std::vector<std::byte>& image, std::uint64_t volume) {
    std::vector<std::uint64_t> places;
    const auto add = [&](std::uint64_t from, std::uint64_t length) {
        for (std::uint64_t at = from; at < std::min<std::uint64_t>(from + length, image.size()); ++at)
            places.push_back(at);
    };
    const ByteView view(image);
    const std::uint64_t fat = volume + view.u32le(static_cast<std::size_t>(volume) + 80).value_or(0) * 512ULL;
    add(volume + 64, 50);
    add(volume + 12 * 512 + 64, 50);
    add(fat, 4096);
    for (std::uint64_t at = volume; at + 64 <= image.size(); at += 512) {
        const auto type = view.u8(at).value_or(0);
        const auto next = view.u8(at + 32).value_or(0);
        if (type == 0x83 || ((type | 0x80) == 0x85 && (next | 0x80) == 0xC0)) add(at, 512);
    }
    return places;
}

void damage(const std::string& fixture, unsigned copies) {
    const auto truth = test::truth_of(fixture);
    test::scan_damaged_copies(fixture, test::affordable(copies),
                              tender_places(test::unpacked(fixture), truth["volumes"][0]["offset"]));
}

TEST(ExfatDamage, SevenThousandWorn) { damage("exfat-worn", 7000); }
TEST(ExfatDamage, ThreeThousandCards) { damage("exfat-card", 3000); }

TEST(ExfatDamage, TakesLittleMemory) {
    if (test::is_watched()) GTEST_SKIP() << "who watches takes memory";
    damage("exfat-worn", 200);
    EXPECT_LT(test::most_memory(), 256U << 20);
}

}  // namespace
}  // namespace dredger
