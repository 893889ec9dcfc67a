// Ten thousand damaged copies of real media: whatever stands on them, a scan ends, in little memory.
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "base/bytes.h"
#include "support/walked.h"

namespace dredger {
namespace {

// Where a few changed bytes do most harm: tables, boot sectors, FATs, and everything that is a folder.
std::vector<std::uint64_t> tender_places(const std::vector<std::byte>& image, std::uint64_t volume) {
    std::vector<std::uint64_t> places;
    const auto add = [&](std::uint64_t from, std::uint64_t length) {
        for (std::uint64_t at = from; at < std::min<std::uint64_t>(from + length, image.size()); ++at)
            places.push_back(at);
    };
    add(446, 66);
    for (int weight = 0; weight < 3; ++weight) add(volume + 11, 40);
    add(volume + 512, 4096);
    const ByteView view(image);
    for (std::uint64_t at = volume; at + 64 <= image.size(); at += 512)
        if (view.has(at, ".          \x10") || view.has(at + 11, "\x08") || view.has(at + 11, "\x0F")) add(at, 512);
    return places;
}

void damage(const std::string& fixture, unsigned copies) {
    const auto truth = test::truth_of(fixture);
    test::scan_damaged_copies(fixture, test::affordable(copies),
                              tender_places(test::unpacked(fixture), truth["volumes"][0]["offset"]));
}

TEST(FatDamage, SixThousandFloppies) { damage("fat12-floppy", 6000); }
TEST(FatDamage, ThreeThousandCards) { damage("fat16-card", 3000); }
TEST(FatDamage, AThousandSticks) { damage("fat32-stick", 1000); }
TEST(FatDamage, AThousandFormattedSticks) { damage("fat32-reclustered", 1000); }

TEST(FatDamage, TakesLittleMemory) {
    if (test::is_watched()) GTEST_SKIP() << "who watches takes memory";
    damage("fat12-floppy", 300);
    damage("fat32-stick", 50);
    EXPECT_LT(test::most_memory(), 256U << 20);
}

}  // namespace
}  // namespace dredger
