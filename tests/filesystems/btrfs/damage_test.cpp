// Thousands of damaged copies of real Btrfs media. Damage is given the checksum that it then has, so that it is
// read.
#include <gtest/gtest.h>
#include <random>

#include "base/crc32c.h"
#include "filesystems/btrfs/volume.h"
#include "filesystems/filesystem.h"
#include "support/walked.h"

namespace dredger {
namespace {

std::vector<std::uint64_t> nodes_of(const std::vector<std::byte>& image, const btrfs::Geometry& geometry) {
    std::vector<std::uint64_t> places;
    const ByteView view(image);
    for (std::size_t at = 0; at + geometry.node_size <= image.size(); at += 4096)
        if (at != 64 << 10 && std::equal(geometry.fsid.begin(), geometry.fsid.end(),
                                         image.begin() + static_cast<std::ptrdiff_t>(at) + 32))
            places.push_back(at);
    return places;
}

constexpr unsigned kCopies = 2'000;  // of each seed

struct Everything final : RecordSink {
    MediumPtr volume;
    std::size_t count = 0;
    bool take(Record&& record) override {
        for (const Extent& extent : record.layout.extents) EXPECT_TRUE(!extent.is_stored() || extent.length > 0);
        EXPECT_FALSE(record.name.empty());
        return ++count < 100'000;
    }
};

class BtrfsDamage : public testing::TestWithParam<test::Damage> {};

TEST_P(BtrfsDamage, TwoThousandCopies) {
    const auto image = std::make_shared<const std::vector<std::byte>>(test::unpacked(GetParam().first));
    const auto geometry = btrfs::parse_superblock(ByteView(*image).slice(64 << 10, 4096).value()).value();
    const auto places = nodes_of(*image, geometry);
    ASSERT_GT(places.size(), 40U);
    const unsigned copies = test::affordable(kCopies);
    std::mt19937 chance(GetParam().second);
    const auto any = [&](std::size_t below) { return static_cast<std::size_t>(chance()) % below; };
    for (unsigned copy = 0; copy < copies; ++copy) {
        const auto medium = std::make_shared<test::MemoryMedium>(image);
        for (std::size_t n = 1 + any(3); n > 0; --n) {
            const std::uint64_t node = places[any(places.size())];
            std::vector<std::byte> bytes(image->begin() + static_cast<std::ptrdiff_t>(node),
                                         image->begin() + static_cast<std::ptrdiff_t>(node + geometry.node_size));
            // Header and item table more often than the data of items.
            for (std::size_t changes = 1 + any(4); changes > 0; --changes) {
                const std::size_t at = any(3) == 0 ? 32 + any(bytes.size() - 32) : 0x50 + any(400);
                bytes[at] = any(3) == 0 ? std::byte{0xFF} : static_cast<std::byte>(chance());
            }
            const std::uint32_t sum = crc32c(std::span(bytes).subspan(32));
            for (std::size_t i = 0; i < bytes.size(); ++i)
                if (bytes[i] != (*image)[static_cast<std::size_t>(node) + i])
                    medium->patch(node + i, std::to_integer<std::uint8_t>(bytes[i]));
            medium->patch32(node, sum);
        }
        for (std::size_t n = any(3); n > 0; --n)
            medium->patch((64 << 10) + 32 + any(2800), static_cast<std::uint8_t>(chance()));
        if (any(20) == 0) medium->cut_at(any(image->size()) + 1);
        const auto opened = open_filesystem(medium);
        if (!opened || !*opened) continue;
        Everything sink;
        std::vector<std::string> warnings;
        (void)(*opened)->walk({}, sink, warnings);
        if (testing::Test::HasFailure()) FAIL() << "copy " << copy;
    }
}

INSTANTIATE_TEST_SUITE_P(Media, BtrfsDamage,
                         testing::Values(test::Damage("btrfs-notes", 1U), test::Damage("btrfs-notes", 2U),
                                         test::Damage("btrfs-notes", 3U), test::Damage("btrfs-snapshots", 1U),
                                         test::Damage("btrfs-snapshots", 2U), test::Damage("btrfs-versions", 1U),
                                         test::Damage("btrfs-versions", 2U)),
                         test::NameOfTest());

}  // namespace
}  // namespace dredger
