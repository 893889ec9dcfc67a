// Walks HFS Plus media that the Linux driver wrote, and the same media with single things damaged.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "filesystems/hfsplus/btree.h"
#include "filesystems/hfsplus/extents.h"
#include "filesystems/hfsplus/hfsplus.h"
#include "support/walked.h"

namespace dredger {
namespace {

using test::MemoryMedium;
using test::Walked;
using testing::Contains;
using testing::HasSubstr;
using testing::IsEmpty;

constexpr std::uint64_t kHeaderAt = hfsplus::kHeaderAt;

hfsplus::Geometry geometry_of(const std::string& fixture) {
    const auto image = test::unpacked(fixture);
    return hfsplus::parse_volume_header(ByteView(image).slice(kHeaderAt, 512).value()).value();
}

class HfsPlusMedia : public testing::TestWithParam<const char*> {};

TEST_P(HfsPlusMedia, GivesBackEveryLiveFile) {
    const Walked walked(GetParam());
    test::expect_live(walked, GetParam());
    EXPECT_THAT(walked.filesystem->facts().warnings, IsEmpty());
    EXPECT_THAT(walked.warnings, IsEmpty());
}

INSTANTIATE_TEST_SUITE_P(Media, HfsPlusMedia,
                         testing::Values("hfsplus-station", "hfsplus-worn", "hfsx-log", "apm-disc-512",
                                         "apm-disc-2048"),
                         test::NameOfTest());

// The driver clears nothing but moves records over each other: what stands at the end of nodes is all that is left.
TEST(HfsPlusWalk, FilesComeBackFromRemainsOfRecordsAndFromTheirNeighbours) {
    EXPECT_EQ(test::deleted_that_come_back(Walked("hfsplus-station"), "hfsplus-station"), 11U);
    EXPECT_EQ(test::deleted_that_come_back(Walked("hfsplus-worn"), "hfsplus-worn"), 19U);
    EXPECT_EQ(test::deleted_that_come_back(Walked("hfsx-log"), "hfsx-log"), 103U);
}

TEST(HfsPlusWalk, APlaceThatIsInferredSaysSoAndHasNoTimeOfWriting) {
    const Walked walked("hfsx-log");
    const Record* record =
        walked.found.find("Years/1990/Sightings of the 180th day, as they were told at the table.txt");
    ASSERT_NE(record, nullptr);
    EXPECT_EQ(record->trust, LayoutTrust::assumed);
    EXPECT_EQ(record->origin, Origin::remnant);
    EXPECT_FALSE(record->modified);
    EXPECT_THAT(record->notes, Contains(HasSubstr("inferred from the files that were made before and behind it")));
}

TEST(HfsPlusWalk, AStateWhileItGrewIsNotTakenForTheFile) {
    const Walked walked("hfsplus-station");
    const Record* record = walked.found.find("Pieces/Track 0.jpg");
    ASSERT_NE(record, nullptr);
    EXPECT_EQ(record->trust, LayoutTrust::damaged);
    EXPECT_THAT(record->notes, Contains(HasSubstr("goes on somewhere else")));
}

TEST(HfsPlusWalk, ExtentsBehindTheFirstEightComeFromTheirTree) {
    const Walked walked("hfsplus-station");
    const Record* record = walked.found.find("Pieces/Track 1.jpg", State::live);
    ASSERT_NE(record, nullptr);
    EXPECT_GT(record->layout.extents.size(), 8U);
    EXPECT_EQ(record->trust, LayoutTrust::exact);
}

TEST(HfsPlusWalk, NamesAreComposedAndHardLinksShareTheirContent) {
    const Walked walked("hfsplus-station");
    const Record *first = walked.found.find("Keep me.txt", State::live),
                 *second = walked.found.find("Kept twice.txt", State::live);
    ASSERT_TRUE(first != nullptr && second != nullptr);
    EXPECT_EQ(first->content_key(), second->content_key());
    EXPECT_EQ(first->layout, second->layout);
    const Record* link = walked.found.find("Shortcut", State::live);
    ASSERT_NE(link, nullptr);
    EXPECT_THAT(link->attributes, Contains("symbolic link"));
    EXPECT_NE(walked.found.find("Calls/Níðhöggur – Kolonie.wav"), nullptr);
}

TEST(HfsPlusWalk, AWalkOfWhatIsLiveAloneFollowsHardLinks) {
    const Walked walked("hfsplus-station");
    WalkOptions options;
    options.live_only = true;
    test::Collector found;
    std::vector<std::string> warnings;
    ASSERT_TRUE(walked.filesystem->walk(options, found, warnings));
    for (const char* path : {"Keep me.txt", "Kept twice.txt"}) {
        const Record* record = found.find(path, State::live);
        ASSERT_NE(record, nullptr) << path;
        EXPECT_EQ(record->size, 3'000U) << path;
    }
}

TEST(HfsPlusWalk, NamesThatDifferInCaseAloneAreTwo) {
    const Walked walked("hfsx-log");
    EXPECT_EQ(walked.filesystem->facts().filesystem, "HFSX");
    EXPECT_NE(walked.found.find("tern.txt", State::live), nullptr);
    EXPECT_NE(walked.found.find("Tern.txt"), nullptr);
}

TEST(HfsPlusWalk, FactsComeFromTheHeaderAndTheRoot) {
    const Walked walked("hfsplus-worn");
    const VolumeFacts& facts = walked.filesystem->facts();
    EXPECT_EQ(facts.filesystem, "HFS+");
    EXPECT_EQ(facts.label, "Worn");
    EXPECT_EQ(facts.cluster_size, 1024U);
    EXPECT_EQ(facts.size, 6U << 20);
    EXPECT_GT(facts.used, 1'000'000U);
}

TEST(HfsPlusWalk, TheAlternateHeaderOpensAVolumeWhoseFirstIsGone) {
    const Walked walked("hfsplus-station", [](MemoryMedium& medium, std::uint64_t volume) {
        for (std::uint64_t i = 0; i < 512; ++i) medium.patch(volume + kHeaderAt + i, 0);
    });
    test::expect_live(walked, "hfsplus-station");
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("its alternate is used")));
}

TEST(HfsPlusWalk, ALostRootCostsNoFileWhoseLeafStands) {
    const auto geometry = geometry_of("hfsx-log");
    const auto medium = std::make_shared<MemoryMedium>(test::unpacked("hfsx-log"));
    const hfsplus::Btree tree(medium, hfsplus::ExtentsOverflow().extents_of(geometry.catalog, hfsplus::kCatalogFileID,
                                                                            hfsplus::ForkKind::data, geometry));
    const std::uint64_t root =
        geometry.place_of(geometry.catalog.first_block()) + std::uint64_t{tree.root()} * tree.node_size();
    const Walked walked("hfsx-log", [&](MemoryMedium& damaged, std::uint64_t) {
        for (std::uint64_t i = 0; i < 64; ++i) damaged.patch(root + i, 0xA5);
    });
    test::expect_live(walked, "hfsx-log");
    EXPECT_THAT(walked.warnings, Contains(HasSubstr("the catalog is damaged")));
}

// The Linux driver writes no journal. Laid out as TN1150 says: a copy of a leaf in it, which the catalog then loses.
TEST(HfsPlusWalk, TheJournalsCopiesOfNodesTellOfWhatTheCatalogLost) {
    const auto geometry = geometry_of("hfsplus-worn");
    const auto image = test::unpacked("hfsplus-worn");
    const auto medium = std::make_shared<MemoryMedium>(image);
    const hfsplus::Btree tree(medium, hfsplus::ExtentsOverflow().extents_of(geometry.catalog, hfsplus::kCatalogFileID,
                                                                            hfsplus::ForkKind::data, geometry));
    const std::uint64_t catalog = geometry.place_of(geometry.catalog.first_block());
    std::uint64_t leaf = 0;
    tree.each_leaf([&](const hfsplus::Node&, std::uint64_t number) { return (leaf = number) == 0; });
    ASSERT_NE(leaf, 0U);
    constexpr std::uint64_t kInfoBlock = 5'900, kJournalBlock = 5'901, kCopyAt = 1'536;  // free ground at the end
    const Walked walked("hfsplus-worn", [&](MemoryMedium& damaged, std::uint64_t) {
        const auto put32 = [&](std::uint64_t at, std::uint32_t value) {
            for (unsigned i = 0; i < 4; ++i) damaged.patch(at + i, static_cast<std::uint8_t>(value >> (24 - 8 * i)));
        };
        put32(kHeaderAt + offsetof(hfsplus::VolumeHeader, attributes), 0x2100);
        put32(kHeaderAt + offsetof(hfsplus::VolumeHeader, journalInfoBlock), kInfoBlock);
        const std::uint64_t info = geometry.place_of(kInfoBlock), journal = geometry.place_of(kJournalBlock);
        put32(info, hfsplus::kJournalInFS);
        put32(info + offsetof(hfsplus::JournalInfoBlock, offset) + 4, static_cast<std::uint32_t>(journal));
        put32(info + offsetof(hfsplus::JournalInfoBlock, size) + 4, 16 << 10);
        for (std::uint64_t i = 0; i < tree.node_size(); ++i) {
            const std::uint64_t at = catalog + leaf * tree.node_size() + i;
            damaged.patch(journal + kCopyAt + i, std::to_integer<std::uint8_t>(image[static_cast<std::size_t>(at)]));
            damaged.patch(at, 0);
        }
    });
    std::size_t from_journal = 0;
    for (const Record& record : walked.found.records)
        for (const std::string& note : record.notes)
            if (note == "the journal keeps a copy of its record") {
                ++from_journal;
                EXPECT_EQ(record.state, State::deleted);
            }
    EXPECT_GT(from_journal, 1U);
}

TEST(HfsPlusWalk, AnImageThatIsCutShortGivesWhatIsThere) {
    const Walked walked("hfsplus-station", [](MemoryMedium& medium, std::uint64_t) { medium.cut_at(8 << 20); });
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("it is cut short")));
    const Record* record = walked.found.find("Keep me.txt", State::live);
    ASSERT_NE(record, nullptr);
}

// As "HFS Wrapper" lays it out: a master directory block that tells where the volume lies in it.
TEST(HfsPlusWalk, AVolumeInTheWrapperOfAnOlderOneIsReadFromWhereThatSays) {
    const auto inner = test::unpacked("hfsplus-worn");
    constexpr std::size_t kBlock = 4096, kStart = 16, kFirstSector = 24;
    constexpr std::size_t kBefore = kFirstSector * 512 + kStart * kBlock;
    std::vector<std::byte> bytes(kBefore);
    const auto put = [&](std::size_t at, std::uint32_t value, unsigned size) {
        for (unsigned i = 0; i < size; ++i) bytes[at + i] = static_cast<std::byte>(value >> 8 * (size - 1 - i));
    };
    put(kHeaderAt, 0x4244, 2);
    put(kHeaderAt + offsetof(hfsplus::WrapperBlock, drAlBlkSiz), kBlock, 4);
    put(kHeaderAt + offsetof(hfsplus::WrapperBlock, drAlBlSt), kFirstSector, 2);
    put(kHeaderAt + offsetof(hfsplus::WrapperBlock, drEmbedSigWord), 0x482B, 2);
    put(kHeaderAt + offsetof(hfsplus::WrapperBlock, drEmbedStart), kStart, 2);
    put(kHeaderAt + offsetof(hfsplus::WrapperBlock, drEmbedCount), static_cast<std::uint32_t>(inner.size() / kBlock),
        2);
    bytes.insert(bytes.end(), inner.begin(), inner.end());
    const auto medium = std::make_shared<MemoryMedium>(bytes);
    const auto filesystem = open_filesystem(medium);
    ASSERT_TRUE(filesystem && *filesystem);
    test::Collector found;
    std::vector<std::string> warnings;
    ASSERT_TRUE((*filesystem)->walk({}, found, warnings));
    const Walked bare("hfsplus-worn");
    const Record *wrapped = found.find("Photos/Nest 07.jpg", State::live),
                 *plain = bare.found.find("Photos/Nest 07.jpg", State::live);
    ASSERT_TRUE(wrapped != nullptr && plain != nullptr);
    ASSERT_EQ(wrapped->layout.extents.size(), plain->layout.extents.size());
    EXPECT_EQ(wrapped->layout.extents[0].offset, plain->layout.extents[0].offset + kBefore);
}

TEST(HfsPlusTrace, EitherHeaderTellsWhereTheVolumeBegins) {
    constexpr std::size_t kBefore = 7 * 512;
    auto bytes = test::unpacked("hfsplus-worn");
    const std::size_t size = bytes.size();
    bytes.insert(bytes.begin(), kBefore, std::byte{0});
    const MemoryMedium medium(bytes);
    for (const std::size_t at : {kBefore + kHeaderAt, kBefore + size - kHeaderAt}) {
        const auto trace = hfsplus::trace(medium, at, ByteView(bytes).slice(at, 512).value());
        ASSERT_TRUE(trace);
        EXPECT_EQ(trace->offset, kBefore);
        EXPECT_EQ(trace->length, size);
        EXPECT_EQ(trace->agreeing, 3U);
    }
    std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(kBefore + kHeaderAt), 512, std::byte{0});
    const MemoryMedium headless(bytes);
    const std::size_t last = kBefore + size - kHeaderAt;
    const auto trace = hfsplus::trace(headless, last, ByteView(bytes).slice(last, 512).value());
    ASSERT_TRUE(trace);
    EXPECT_EQ(trace->offset, kBefore);
    EXPECT_EQ(trace->agreeing, 2U);
}

}  // namespace
}  // namespace dredger
