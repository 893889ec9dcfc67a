// Walks Btrfs media that the kernel's driver wrote, and the same media with single things damaged.
#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <map>
#include <nlohmann/json.hpp>
#include <set>

#include "base/crc32c.h"
#include "filesystems/btrfs/structures.h"
#include "filesystems/btrfs/volume.h"
#include "media/content.h"
#include "support/walked.h"

namespace dredger {
namespace {

using test::expect_truth;
using test::MemoryMedium;
using test::Walked;
using testing::Contains;
using testing::HasSubstr;
using testing::IsEmpty;

// The files of the truth whose bytes a record gives, of those that are deleted.
std::pair<unsigned, unsigned> deleted_and_exact(const Walked& walked) {
    unsigned deleted = 0, exact = 0;
    const auto truth = test::truth_of("btrfs-notes");
    for (const auto& file : truth["files"]) {
        if (file["state"] != "deleted" || file["directory"]) continue;
        ++deleted;
        const Record* record = walked.found.find(file["path"]);
        exact += record != nullptr && record->size == file["size"] && walked.sum_of(*record) == file["sha256"] ? 1 : 0;
    }
    return {deleted, exact};
}

TEST(BtrfsWalk, GivesBackWhatOlderTreesTellOf) {
    const Walked walked("btrfs-notes");
    EXPECT_EQ(walked.filesystem->facts().filesystem, "Btrfs");
    EXPECT_EQ(walked.filesystem->facts().label, "NOTES");
    EXPECT_THAT(walked.filesystem->facts().warnings, IsEmpty());
    EXPECT_THAT(walked.warnings, IsEmpty());
    const auto [deleted, exact] = deleted_and_exact(walked);
    EXPECT_GT(deleted, 30U);
    EXPECT_EQ(exact, deleted);
    const auto truth = test::truth_of("btrfs-notes");
    for (const auto& file : truth["files"]) {
        if (file["state"] != "live" || file["directory"]) continue;
        const std::string path = file["path"];
        const Record* record = walked.found.find(path, State::live);
        // What a snapshot has as it is today is told of where it is today.
        constexpr std::string_view kSnapshot = "snapshots/Before tidying/";
        if (record == nullptr && path.starts_with(kSnapshot))
            record = walked.found.find("@station/" + path.substr(kSnapshot.size()), State::live);
        ASSERT_NE(record, nullptr) << path;
        EXPECT_EQ(walked.sum_of(*record), file["sha256"]) << file["path"];
    }
}

// Thirty older trees tell of thirty versions of each: only the last one is the file.
TEST(BtrfsWalk, OfManyVersionsTheLastComesBack) {
    const Walked walked("btrfs-versions");
    const auto truth = test::truth_of("btrfs-versions");
    unsigned compared = 0;
    for (const auto& file : truth["files"]) {
        if (file["directory"]) continue;
        const Record* record = walked.found.find(file["path"]);
        ASSERT_NE(record, nullptr) << file["path"];
        EXPECT_EQ(record->size, file["size"].get<std::uint64_t>()) << file["path"];
        EXPECT_EQ(record->trust, LayoutTrust::exact) << file["path"];
        EXPECT_EQ(walked.sum_of(*record), file["sha256"]) << file["path"];
        ++compared;
    }
    EXPECT_EQ(compared, 13U);
}

TEST(BtrfsWalk, SaysWhatLivesOnInASnapshot) {
    const Walked walked("btrfs-notes");
    const Record* record = walked.found.find("@station/Nests/Ledge 2/Puffin 2.jpg");
    ASSERT_NE(record, nullptr);
    EXPECT_THAT(record->notes,
                Contains("it lives on in a snapshot: snapshots/Before tidying/Nests/Ledge 2/Puffin 2.jpg"));
    const Record* twin = walked.found.find("snapshots/Before tidying/Nests/Ledge 2/Puffin 2.jpg", State::live);
    ASSERT_NE(twin, nullptr);
    EXPECT_EQ(record->content_key(), twin->content_key()) << "it is not overwritten by what it lives on in";
    const Record* other = walked.found.find("@station/Nests/Ledge 1/Puffin 1.jpg");
    ASSERT_NE(other, nullptr);
    EXPECT_THAT(other->notes, testing::Not(Contains(HasSubstr("snapshot"))));
}

// Five snapshots and a copy of 90 files, of which a few change each day: every state of every file is told of once.
TEST(BtrfsWalk, SnapshotsTellOfWhatDiffers) {
    const Walked walked("btrfs-snapshots");
    EXPECT_THAT(walked.warnings, IsEmpty());
    std::map<std::string, unsigned> told;  // by name and content
    std::size_t files = 0;
    for (const Record& record : walked.found.records) {
        if (record.state != State::live || record.is_folder) continue;
        ++files;
        ++told[record.name + walked.sum_of(record)];
    }
    const auto truth = test::truth_of("btrfs-snapshots");
    std::map<std::string, std::set<std::string>> states;  // paths by name and content
    for (const auto& file : truth["files"])
        if (!file["directory"]) {
            const std::string path = file["path"];
            states[path.substr(path.rfind('/') + 1) + file["sha256"].get<std::string>()].insert(path);
        }
    std::size_t paths = 0;
    for (const auto& [state, where] : states) {
        EXPECT_GE(told[state], 1U) << *where.begin();
        paths += where.size();
    }
    EXPECT_GT(paths, 500U);
    EXPECT_LT(files, 200U);
    EXPECT_EQ(told.size(), states.size()) << "what is in no truth was told of";
    // What was renamed since stands under its older name in the snapshots only.
    EXPECT_NE(walked.found.find("@log/Plot five", State::live), nullptr);
    EXPECT_NE(walked.found.find("days/Day 3/Plot 5", State::live), nullptr);
}

TEST(BtrfsWalk, TellsItsSubvolumesAndSnapshots) {
    const Walked walked("btrfs-snapshots");
    std::vector<std::string> written, kept;
    for (const FileRoot& root : walked.filesystem->roots()) {
        (root.is_snapshot ? kept : written).push_back(root.label);
        EXPECT_EQ(root.version != 0, root.is_snapshot);
    }
    EXPECT_THAT(written, testing::UnorderedElementsAre("", "@log", "@try"));
    EXPECT_THAT(kept, testing::ElementsAre("Day 5", "Day 4", "Day 3", "Day 2", "Day 1"));
    for (const Record& record : walked.found.records) {
        const bool is_kept = record.folder.starts_with("days/");
        if (record.state == State::live) {
            EXPECT_EQ(record.version != 0, is_kept) << record.path();
        }
    }
}

TEST(BtrfsWalk, NamesTheSubvolumeThatIsGone) {
    const Walked walked("btrfs-notes");
    const Record* record = walked.found.find("@old/Season 2019/Counts.csv");
    ASSERT_NE(record, nullptr);
    EXPECT_EQ(record->origin, Origin::remnant);
}

TEST(BtrfsWalk, PackedExtentsAreUnpacked) {
    const Walked walked("btrfs-notes");
    for (const auto& [name, codec] : {std::pair("zlib", Pack::Method::zlib), std::pair("lzo", Pack::Method::lzo),
                                      std::pair("zstd", Pack::Method::zstd)}) {
        const Record* record = walked.found.find(fmt::format("@station/Packed {}.txt", name));
        ASSERT_NE(record, nullptr) << name;
        EXPECT_EQ(record->layout.codec, Codec::each) << name;
        EXPECT_EQ(record->layout.extents.front().pack.method, codec) << name;
        // From the middle of one packed extent into the next one.
        const auto content = open_content(walked.volume, record->layout, record->size);
        const auto whole = content->bytes(0, static_cast<std::size_t>(record->size)).value();
        const auto part = content->bytes(131'000, 200).value();
        EXPECT_TRUE(std::equal(part.begin(), part.end(), whole.begin() + 131'000)) << name;
    }
}

TEST(BtrfsWalk, TheChecksumsOfDeletedContentAreKept) {
    const Walked walked("btrfs-notes");
    const Record* record = walked.found.find("@station/Calls/Níðhöggur – Kolonie.wav");
    ASSERT_NE(record, nullptr);
    ASSERT_EQ(record->layout.sum_unit, 4096U);
    ASSERT_EQ(record->layout.sums.size(), (record->size + 4095) / 4096);
    const auto first = walked.volume->bytes(record->layout.extents.front().offset, 4096).value();
    EXPECT_EQ(~Crc32c().add(first).value(), record->layout.sums.front());
}

// Everything that is reached starts with the superblock's pointers; backup roots and older leaves remain.
TEST(BtrfsWalk, WithoutItsTreeOfRootsABackupIsUsed) {
    const auto image = test::unpacked("btrfs-notes");
    const auto geometry = btrfs::parse_superblock(ByteView(image).slice(64 << 10, 4096).value()).value();
    btrfs::Nodes nodes(std::make_shared<MemoryMedium>(image), geometry);
    std::vector<std::string> warnings;
    nodes.read_chunks(warnings);
    const std::uint64_t root = nodes.chunks().places_of(geometry.root, geometry.node_size).front().offset;
    const Walked walked("btrfs-notes", [&](MemoryMedium& medium, std::uint64_t volume) {
        medium.patch32(volume + root + 0x60, 0xFFFFFFFF);
    });
    EXPECT_THAT(walked.warnings, Contains(HasSubstr("damaged")));
    const auto [deleted, exact] = deleted_and_exact(walked);
    EXPECT_GT(exact * 2, deleted);
}

TEST(BtrfsWalk, AMirrorOfTheSuperblockIsNoneOnASmallVolume) {
    auto image = test::unpacked("btrfs-notes");
    std::fill_n(image.begin() + (64 << 10), 4096, std::byte{0});
    const auto opened = open_filesystem(std::make_shared<MemoryMedium>(image));
    EXPECT_TRUE(!opened || !*opened);
}

}  // namespace
}  // namespace dredger
