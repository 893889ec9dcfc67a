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

// A volume with two stores, by hand: block 4 is the catalog, 5 and 6 the lists of the first and the second copy, 9 and
// 10 their headers.
class ShadowBlocks : public testing::Test {
  protected:
    static constexpr std::size_t kBlock = 0x4000;

    ShadowBlocks() : bytes_(16 * kBlock) {
        head(0x1E00, 1);
        put(0x1E00 + 48, std::uint64_t{4 * kBlock});
        head(4 * kBlock, 2);
        for (std::uint64_t n = 0; n < 2; ++n) {
            const std::size_t entry = 4 * kBlock + 128 + n * 256;
            put(entry, std::uint64_t{2});
            put(entry + 8, std::uint64_t{bytes_.size()});
            put(entry + 16, n + 1);
            put(entry + 48, std::uint64_t{132'000'000'000'000'000} + n);
            put(entry + 128, std::uint64_t{3});
            put(entry + 128 + 8, std::uint64_t{(5 + n) * kBlock});
            put(entry + 128 + 16, n + 1);
            put(entry + 128 + 32, std::uint64_t{(9 + n) * kBlock});
            head((5 + n) * kBlock, 3);
            head((9 + n) * kBlock, 4);
        }
    }
    template <class Value>
    void put(std::size_t at, Value value) {
        std::memcpy(bytes_.data() + at, &value, sizeof value);
    }
    void head(std::size_t at, std::uint32_t type) {
        constexpr unsigned char kId[] = {0x6B, 0x87, 0x08, 0x38, 0x76, 0xC1, 0x48, 0x4E,
                                         0xB7, 0xAE, 0x04, 0x04, 0x6E, 0x6C, 0xC7, 0x52};
        std::memcpy(bytes_.data() + at, kId, sizeof kId);
        put(at + 16, std::uint32_t{1});
        put(at + 20, type);
        put(at + 32, std::uint64_t{at});
    }
    // Flags: 1 went on as another block, 2 only some sectors, 4 not used.
    void keep(std::size_t store, std::uint64_t original, std::uint64_t kept, std::uint32_t flags = 0,
              std::uint32_t sectors = 0) {
        const std::size_t n = entries_[store]++, entry = (5 + store) * kBlock + 128 + n * 32;
        put(entry, original * kBlock);
        put(entry + 8, flags == 1 ? kept * kBlock : std::uint64_t{n * kBlock});
        put(entry + 16, flags == 1 ? std::uint64_t{0} : kept * kBlock);
        put(entry + 24, flags);
        put(entry + 28, sectors);
    }
    ShadowCopies found() const { return find_shadow_copies(MemoryMedium(bytes_)); }
    ShadowCopies found_by_blocks(std::span<const ShadowFile> files = {}) const {
        return find_lost_shadow_copies(MemoryMedium(bytes_), files, [](auto, auto) { return true; });
    }
    static std::uint64_t place(const ShadowCopy& copy, std::uint64_t at) {
        for (const Extent& piece : copy.pieces) {
            if (at < piece.length) return piece.offset + at;
            at -= piece.length;
        }
        return ~std::uint64_t{0};
    }

    std::vector<std::byte> bytes_;
    std::size_t entries_[2] = {};
};

TEST_F(ShadowBlocks, AreLookedForInTheStoresOfLaterCopiesAndTodayLast) {
    keep(0, 1, 11);            // the first copy's own
    keep(1, 2, 12);            // kept for the second, and so for the first
    keep(0, 3, 2, 1);          // what was block 3 went on as block 2 of the second
    keep(1, 8, 13, 2, 0b101);  // two sectors of a block
    keep(1, 7, 14, 4);         // not used
    const ShadowCopies found = this->found();
    ASSERT_THAT(found.copies, SizeIs(2));
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

TEST_F(ShadowBlocks, AnOlderCopySeesTheSectorsThatALaterOneKeeps) {
    keep(0, 8, 11, 2, 0b001);
    keep(1, 8, 13, 2, 0b111);
    keep(0, 3, 8, 1);
    const ShadowCopies found = this->found();
    ASSERT_THAT(found.copies, SizeIs(2));
    EXPECT_EQ(place(found.copies[0], 8 * kBlock), 11 * kBlock) << "its own is older";
    EXPECT_EQ(place(found.copies[0], 8 * kBlock + 512), 13 * kBlock + 512);
    EXPECT_EQ(place(found.copies[0], 8 * kBlock + 3 * 512), 8 * kBlock + 3 * 512);
    EXPECT_EQ(place(found.copies[0], 3 * kBlock + 512), 13 * kBlock + 512) << "through what went on elsewhere";
    EXPECT_EQ(place(found.copies[1], 8 * kBlock), 13 * kBlock);
}

TEST_F(ShadowBlocks, ADamagedListMakesItsCopyAndEarlierOnesDoubtful) {
    keep(0, 1, 11);
    EXPECT_TRUE(found().copies[0].is_whole && found().copies[1].is_whole);
    put(5 * kBlock, std::uint32_t{0});
    EXPECT_FALSE(found().copies[0].is_whole);
    EXPECT_TRUE(found().copies[1].is_whole);
    EXPECT_THAT(found().warnings, SizeIs(1));
    head(5 * kBlock, 3);
    put(6 * kBlock, std::uint32_t{0});
    EXPECT_FALSE(found().copies[0].is_whole);
    EXPECT_FALSE(found().copies[1].is_whole);
}

TEST_F(ShadowBlocks, TellOfStoresWhoseCatalogIsLost) {
    keep(0, 1, 11);
    keep(1, 2, 12);
    put(4 * kBlock, std::uint32_t{0});
    EXPECT_TRUE(found().copies.empty());
    EXPECT_TRUE(found().lacks_catalog);
    const ShadowCopies anywhere = found_by_blocks();
    ASSERT_THAT(anywhere.copies, SizeIs(2));
    EXPECT_EQ(place(anywhere.copies[0], 1 * kBlock), 11 * kBlock);
    EXPECT_EQ(place(anywhere.copies[0], 2 * kBlock), 12 * kBlock);
    EXPECT_FALSE(anywhere.copies[0].is_whole) << "nobody knows which was first";
    EXPECT_NE(anywhere.copies[0].store, anywhere.copies[1].store);
    // Each in a file of its own, the later one first on the volume.
    const ShadowFile files[] = {{{{5 * kBlock, kBlock}}, FileTime{2'000}}, {{{6 * kBlock, kBlock}}, FileTime{1'000}}};
    const ShadowCopies told = found_by_blocks(files);
    ASSERT_THAT(told.copies, SizeIs(2));
    EXPECT_EQ(told.copies[0].made->seconds, 1'000);
    EXPECT_TRUE(told.copies[0].is_whole);
    EXPECT_EQ(place(told.copies[0], 1 * kBlock), 11 * kBlock) << "the other one is the later one now";
    EXPECT_EQ(place(told.copies[1], 2 * kBlock), 2 * kBlock);
}

TEST_F(ShadowBlocks, OnesThatTheCatalogStillNamesAreNotFoundTwice) {
    head(4 * kBlock, 2);
    put(4 * kBlock + 40, std::uint64_t{15 * kBlock});  // the catalog goes on where nothing is
    const ShadowCopies found = found_by_blocks();
    EXPECT_THAT(found.copies, SizeIs(2));
    EXPECT_TRUE(found.copies[0].is_whole);
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
    for (int n = 0; n < (test::is_watched() ? 300 : 10'000); ++n) {
        MemoryMedium medium(image_);
        for (auto hits = 1 + chance() % 12; hits > 0; --hits)
            medium.patch32(places[chance() % places.size()] + chance() % 700 / 4 * 4,
                           chance() % 3 == 0 ? static_cast<std::uint32_t>(chance())
                                             : static_cast<std::uint32_t>(chance() % 0x40'0000));
        const ShadowCopies found = n % 2 == 0 ? find_shadow_copies(medium)
                                              : find_lost_shadow_copies(medium, {}, [](auto, auto) { return true; });
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
