// Damaged copies of a real container. Damage is given the checksum that it then has, so that it is read.
#include <gtest/gtest.h>
#include <random>

#include "filesystems/apfs/node.h"
#include "support/walked.h"

namespace dredger {
namespace {

constexpr std::size_t kBlock = 4096;

std::vector<std::uint64_t> objects_in(const std::vector<std::byte>& image) {
    std::vector<std::uint64_t> places;
    for (std::size_t at = 0; at + kBlock <= image.size(); at += kBlock) {
        const auto block = std::span<const std::byte>(image).subspan(at, kBlock);
        if (*ByteView(block).u64le(0) != 0 && apfs::has_right_sum(block)) places.push_back(at);
    }
    return places;
}

void put_right_sum(std::vector<std::byte>& block) {
    const std::uint64_t sum = apfs::sum_of(block);
    for (unsigned i = 0; i < 8; ++i) block[i] = static_cast<std::byte>(sum >> (8 * i));
}

struct Everything final : RecordSink {
    std::size_t count = 0;
    bool take(Record&& record) override {
        EXPECT_FALSE(record.name.empty());
        return ++count < 100'000;
    }
};

class ApfsDamage : public testing::TestWithParam<unsigned> {};

TEST_P(ApfsDamage, AThousandCopies) {
    const auto image = std::make_shared<const std::vector<std::byte>>(test::unpacked("apfs-snapshot"));
    const auto places = objects_in(*image);
    ASSERT_GT(places.size(), 40U);
    std::mt19937 chance(GetParam());
    const auto any = [&](std::size_t below) { return static_cast<std::size_t>(chance()) % below; };
    for (unsigned copy = 0; copy < test::affordable(1'000); ++copy) {
        const auto medium = std::make_shared<test::MemoryMedium>(image);
        for (std::size_t n = 1 + any(3); n > 0; --n) {
            const auto at = static_cast<std::ptrdiff_t>(places[any(places.size())]);
            std::vector<std::byte> block(image->begin() + at, image->begin() + at + kBlock);
            // The head and the table more often than what they tell of.
            for (std::size_t changes = 1 + any(4); changes > 0; --changes) {
                const std::size_t where = any(3) == 0 ? 8 + any(kBlock - 8) : 24 + any(300);
                block[where] = any(3) == 0 ? std::byte{0xFF} : static_cast<std::byte>(chance());
            }
            if (any(8) != 0) put_right_sum(block);
            for (std::size_t i = 0; i < kBlock; ++i)
                if (block[i] != (*image)[static_cast<std::size_t>(at) + i])
                    medium->patch(static_cast<std::uint64_t>(at) + i, std::to_integer<std::uint8_t>(block[i]));
        }
        const auto filesystem = open_filesystem(medium);
        if (!filesystem || !*filesystem) continue;
        Everything sink;
        std::vector<std::string> warnings;
        (void)(*filesystem)->walk({}, sink, warnings);
    }
}

INSTANTIATE_TEST_SUITE_P(Seeds, ApfsDamage, testing::Range(1U, 11U));

}  // namespace
}  // namespace dredger
