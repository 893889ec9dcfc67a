// Shadow copies as a volume keeps them: where the blocks of each lie, and what damage costs.
#include "volumes/shadow.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <random>

#include "filesystems/filesystem.h"
#include "media/content.h"
#include "support/support.h"

namespace dredger {
namespace {

using test::MemoryMedium;
using testing::SizeIs;

class ShadowTest : public testing::Test {
  protected:
    const std::vector<std::byte> image_ = test::unpacked("ntfs-shadows");
    const nlohmann::json truth_ = test::truth_of("ntfs-shadows");
};

class Files final : public RecordSink {
  public:
    explicit Files(MediumPtr volume) : volume_(std::move(volume)) {}
    bool take(Record&& record) override {
        if (record.state != State::live || record.is_folder || record.is_own) return true;
        const auto content = open_content(volume_, record.layout, record.size);
        const auto bytes = content->bytes(0, static_cast<std::size_t>(record.size));
        if (bytes) sums[record.path()] = sum_of(*bytes);
        return true;
    }
    static std::string sum_of(const std::vector<std::byte>& bytes) {
        Sha256 sum;
        sum.add(bytes);
        return sum.finish();
    }
    std::map<std::string, std::string> sums;

  private:
    MediumPtr volume_;
};

TEST_F(ShadowTest, EveryFileOfEveryStateIsThereByteForByte) {
    const auto medium = std::make_shared<MemoryMedium>(image_);
    const ShadowCopies found = find_shadow_copies(*medium);
    EXPECT_TRUE(found.warnings.empty());
    ASSERT_THAT(found.copies, SizeIs(3));
    std::size_t files = 0;
    for (std::size_t n = 0; n < 3; ++n) {
        const ShadowCopy& copy = found.copies[n];
        const auto& state = truth_["states"][n];
        EXPECT_EQ(iso8601(*copy.made), state["made"].get<std::string>() + "Z");
        EXPECT_EQ(copy.size, medium->size());
        const auto volume = std::make_shared<Content>(medium, copy.pieces);
        const auto filesystem = open_filesystem(volume);
        ASSERT_TRUE(filesystem && *filesystem);
        Files seen(volume);
        std::vector<std::string> warnings;
        ASSERT_TRUE((*filesystem)->walk({}, seen, warnings));
        for (const auto& file : state["files"]) {
            ++files;
            EXPECT_EQ(seen.sums[file["path"]], file["sha256"]) << n << " " << file["path"];
        }
    }
    EXPECT_GT(files, 40U);
}

// A volume of two blocks and three stores, by hand: what is not kept was not changed before the next copy.
TEST(ShadowBlocks, AreLookedForInTheStoresOfLaterCopiesAndTodayLast) {
    constexpr std::size_t kBlock = 0x4000;
    std::vector<std::byte> bytes(16 * kBlock);
    const auto put = [&](std::size_t at, const auto value) { std::memcpy(bytes.data() + at, &value, sizeof value); };
    const auto head = [&](std::size_t at, std::uint32_t type, std::uint64_t next) {
        constexpr unsigned char kId[] = {0x6B, 0x87, 0x08, 0x38, 0x76, 0xC1, 0x48, 0x4E,
                                         0xB7, 0xAE, 0x04, 0x04, 0x6E, 0x6C, 0xC7, 0x52};
        std::memcpy(bytes.data() + at, kId, sizeof kId);
        put(at + 16, std::uint32_t{1});
        put(at + 20, type);
        put(at + 32, std::uint64_t{at});
        put(at + 40, next);
    };
    head(0x1E00, 1, 0);
    put(0x1E00 + 48, std::uint64_t{4 * kBlock});
    head(4 * kBlock, 2, 0);
    for (std::uint64_t n = 0; n < 2; ++n) {
        const std::size_t entry = 4 * kBlock + 128 + n * 256;
        put(entry, std::uint64_t{2});
        put(entry + 8, std::uint64_t{bytes.size()});
        put(entry + 16, n + 1);
        put(entry + 48, std::uint64_t{132'000'000'000'000'000} + n);
        put(entry + 128, std::uint64_t{3});
        put(entry + 128 + 8, std::uint64_t{(5 + n) * kBlock});
        put(entry + 128 + 16, n + 1);
        put(entry + 128 + 32, std::uint64_t{(9 + n) * kBlock});
        head((5 + n) * kBlock, 3, 0);
    }
    const auto keep = [&](std::size_t store, std::size_t at, std::uint64_t original, std::uint64_t kept,
                          std::uint32_t flags = 0, std::uint32_t sectors = 0) {
        const std::size_t entry = (5 + store) * kBlock + 128 + at * 32;
        put(entry, original * kBlock);
        put(entry + 8, flags == 1 ? kept * kBlock : std::uint64_t{at * kBlock});
        put(entry + 16, flags == 1 ? std::uint64_t{0} : kept * kBlock);
        put(entry + 24, flags);
        put(entry + 28, sectors);
    };
    keep(0, 0, 1, 11);            // the first copy's own
    keep(1, 0, 2, 12);            // kept for the second, and so for the first
    keep(0, 1, 3, 2, 1);          // what was block 3 went on as block 2 of the second
    keep(1, 1, 8, 13, 2, 0b101);  // two sectors of a block
    keep(1, 2, 7, 14, 4);         // not used
    const MemoryMedium medium(bytes);
    const ShadowCopies found = find_shadow_copies(medium);
    ASSERT_THAT(found.copies, SizeIs(2));
    const auto place = [&](const ShadowCopy& copy, std::uint64_t at) {
        for (const Extent& piece : copy.pieces) {
            if (at < piece.length) return piece.offset + at;
            at -= piece.length;
        }
        return ~std::uint64_t{0};
    };
    EXPECT_EQ(place(found.copies[0], 1 * kBlock + 5), 11 * kBlock + 5);
    EXPECT_EQ(place(found.copies[1], 1 * kBlock + 5), 1 * kBlock + 5);
    EXPECT_EQ(place(found.copies[0], 2 * kBlock), 12 * kBlock);
    EXPECT_EQ(place(found.copies[1], 2 * kBlock), 12 * kBlock);
    EXPECT_EQ(place(found.copies[0], 3 * kBlock), 12 * kBlock);
    EXPECT_EQ(place(found.copies[0], 7 * kBlock), 7 * kBlock);
    EXPECT_EQ(place(found.copies[1], 8 * kBlock), 13 * kBlock);
    EXPECT_EQ(place(found.copies[1], 8 * kBlock + 512), 8 * kBlock + 512);
    EXPECT_EQ(place(found.copies[1], 8 * kBlock + 1024), 13 * kBlock + 1024);
}

TEST_F(ShadowTest, DamageCostsWhatIsInIt) {
    std::minstd_rand chance(4);
    // Where structures stand.
    std::vector<std::size_t> places = {0x1E00};
    for (std::size_t at = 0; at + 0x4000 <= image_.size(); at += 0x4000)
        if (std::equal(image_.begin() + 0x1E00, image_.begin() + 0x1E10,
                       image_.begin() + static_cast<std::ptrdiff_t>(at)))
            places.push_back(at);
    ASSERT_GT(places.size(), 10U);
    for (int n = 0; n < (test::is_watched() ? 300 : 1500); ++n) {
        MemoryMedium medium(image_);
        for (auto hits = 1 + chance() % 12; hits > 0; --hits)
            medium.patch32(places[chance() % places.size()] + chance() % 700 / 4 * 4,
                           chance() % 3 == 0 ? static_cast<std::uint32_t>(chance())
                                             : static_cast<std::uint32_t>(chance() % 0x40'0000));
        const ShadowCopies found = find_shadow_copies(medium);
        for (const ShadowCopy& copy : found.copies) {
            std::uint64_t length = 0;
            for (const Extent& piece : copy.pieces) {
                length += piece.length;
                EXPECT_LE(piece.is_stored() ? piece.end() : 0, medium.size());
            }
            EXPECT_EQ(length, copy.size);
            EXPECT_LE(copy.size, medium.size());
        }
    }
}

TEST(ShadowCopiesTest, AVolumeWithoutThemHasNone) {
    EXPECT_TRUE(find_shadow_copies(MemoryMedium(std::vector<std::byte>(1 << 20))).copies.empty());
    EXPECT_TRUE(find_shadow_copies(MemoryMedium(std::vector<std::byte>(100))).copies.empty());
}

}  // namespace
}  // namespace dredger
