// Ten thousand damaged copies of real NTFS media.
#include <gtest/gtest.h>

#include "base/bytes.h"
#include "support/walked.h"

namespace dredger {
namespace {

// Boot sector, records and index blocks; the attributes' headers and runlists more often than the rest.
std::vector<std::uint64_t> tender_places(const std::vector<std::byte>& image) {
    std::vector<std::uint64_t> places;
    const auto add = [&](std::uint64_t from, std::uint64_t length) {
        for (std::uint64_t at = from; at < std::min<std::uint64_t>(from + length, image.size()); ++at)
            places.push_back(at);
    };
    add(11, 62);
    const ByteView view(image);
    for (std::uint64_t at = 0; at + 512 <= image.size(); at += 512) {
        if (view.has(at, "INDX")) add(at, 512);
        if (!view.has(at, "FILE")) continue;
        add(at, 512);
        std::size_t attribute = static_cast<std::size_t>(at) + view.u16le(at + 20).value_or(0);
        for (int n = 0; n < 16 && attribute + 64 < image.size(); ++n) {
            const std::uint32_t type = view.u32le(attribute).value_or(0xFFFFFFFF);
            const std::uint32_t length = view.u32le(attribute + 4).value_or(0);
            if (type == 0xFFFFFFFF || length < 24 || length > 1024) break;
            for (int weight = 0; weight < 3; ++weight) {
                add(attribute + 4, 8);
                add(attribute + 16, 8);
                if (view.u8(attribute + 8).value_or(0) != 0) add(attribute + 64, length - 64);
                if (type == 0x20) add(attribute + 24, length - 24);
            }
            attribute += length;
        }
    }
    return places;
}

void damage(const std::string& fixture, unsigned copies) {
    test::scan_damaged_copies(fixture, test::affordable(copies), tender_places(test::unpacked(fixture)));
}

TEST(NtfsDamage, FiveThousandOfSmallClusters) { damage("ntfs-small", 5000); }
TEST(NtfsDamage, FourThousandOfLargeRecords) { damage("ntfs-4k", 4000); }
TEST(NtfsDamage, AThousandOffices) { damage("ntfs-office", 1000); }
TEST(NtfsDamage, AThousandFormatted) { damage("ntfs-reclustered", 1000); }

TEST(NtfsDamage, TakesLittleMemory) {
    if (test::is_watched()) GTEST_SKIP() << "who watches takes memory";
    damage("ntfs-small", 200);
    damage("ntfs-office", 50);
    EXPECT_LT(test::most_memory(), 256U << 20);
}

}  // namespace
}  // namespace dredger
