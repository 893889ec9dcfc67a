// The pieces that NTFS is read with, on bytes laid out by hand as the format's descriptions say.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "filesystems/ntfs/attributes.h"
#include "filesystems/ntfs/fixups.h"
#include "filesystems/ntfs/folders.h"
#include "filesystems/ntfs/index_slack.h"
#include "filesystems/ntfs/runlist.h"
#include "filesystems/ntfs/usn_journal.h"
#include "support/support.h"

namespace dredger::ntfs {
namespace {

using testing::ElementsAre;
using testing::IsEmpty;

Geometry geometry() {
    Geometry g;
    g.cluster_size = 4096;
    g.record_size = 1024;
    g.index_size = 4096;
    g.cluster_count = 10'000;
    return g;
}

std::vector<std::byte> bytes(std::initializer_list<unsigned> values) {
    std::vector<std::byte> out;
    for (const unsigned v : values) out.push_back(static_cast<std::byte>(v));
    return out;
}

template <class T>
void put(std::vector<std::byte>& into, std::size_t at, const T& value) {
    if (into.size() < at + sizeof(T)) into.resize(at + sizeof(T));
    std::memcpy(into.data() + at, &value, sizeof(T));
}

TEST(NtfsGeometry, ReadsSizesBothWays) {
    auto sector = test::unpacked("ntfs-4k");
    sector.resize(512);
    const auto g = parse_boot_sector(ByteView(sector));
    ASSERT_TRUE(g);
    EXPECT_EQ(g->sector_size, 4096U);
    EXPECT_EQ(g->record_size, 4096U);
    EXPECT_EQ(g->index_size, 4096U);
    sector[13] = std::byte{0xF4};  // 2^12 sectors
    EXPECT_FALSE(parse_boot_sector(ByteView(sector))) << "clusters have at most 2 MiB";
    sector[13] = std::byte{1};
    sector[64] = std::byte{0};
    EXPECT_FALSE(parse_boot_sector(ByteView(sector)));
    EXPECT_FALSE(parse_boot_sector(ByteView()));
}

TEST(NtfsFixups, PutBytesBackAndTellWhatIsTorn) {
    std::vector<std::byte> block(1024);
    put(block, 4, boost::endian::little_uint16_t(40));
    put(block, 6, boost::endian::little_uint16_t(3));
    put(block, 40, boost::endian::little_uint16_t(7));
    put(block, 42, boost::endian::little_uint16_t(0x1111));
    put(block, 44, boost::endian::little_uint16_t(0x2222));
    put(block, 510, boost::endian::little_uint16_t(7));
    put(block, 1022, boost::endian::little_uint16_t(7));
    auto whole = block;
    EXPECT_EQ(apply_fixups(whole), 1024U);
    EXPECT_EQ(whole[510], std::byte{0x11});
    EXPECT_EQ(whole[1023], std::byte{0x22});
    auto torn = block;
    torn[1022] = std::byte{8};
    EXPECT_EQ(apply_fixups(torn), 512U);
    auto odd = block;
    put(odd, 4, boost::endian::little_uint16_t(508));
    EXPECT_EQ(apply_fixups(odd), 0U) << "the array can't reach over the place of its own marks";
}

TEST(NtfsFixups, TellWhereBytesReallyStand) {
    std::vector<std::pair<std::size_t, std::size_t>> runs;
    for_each_stored_run(48, 500, 530, [&](std::size_t at, std::size_t length) { runs.emplace_back(at, length); });
    EXPECT_THAT(runs, ElementsAre(std::pair(500, 10), std::pair(50, 2), std::pair(512, 510), std::pair(52, 2),
                                  std::pair(1024, 6)));
}

TEST(NtfsRunlist, GoesForwardsAndBackwardsAndOverHoles) {
    const auto pairs = bytes({0x21, 0x18, 0x34, 0x02, 0x01, 0x04, 0x11, 0x02, 0xFC, 0x00});
    const Runlist list = decode_mapping_pairs(ByteView(pairs), 0, geometry());
    ASSERT_EQ(list.runs.size(), 3U);
    EXPECT_TRUE(list.whole);
    EXPECT_EQ(list.runs[0].lcn, 0x234U);
    EXPECT_TRUE(list.runs[1].is_sparse());
    EXPECT_EQ(list.runs[2].lcn, 0x230U);
    EXPECT_EQ(list.end(), 0x18U + 4 + 2);
    const auto extents = extents_of(list, 0x1D * 4096 + 100, 0x1C * 4096 + 50, geometry());
    EXPECT_THAT(extents, ElementsAre(Extent{0x234 * 4096, 0x18 * 4096}, Extent::zeros(4 * 4096),
                                     Extent{0x230 * 4096, 50}, Extent::zeros(4096 + 50)));
}

TEST(NtfsRunlist, WhatCanNotBeIsLeftOutAndSaid) {
    const Geometry g = geometry();
    const auto list_of = [&](std::initializer_list<unsigned> values) {
        return decode_mapping_pairs(ByteView(bytes(values)), 0, g);
    };
    EXPECT_FALSE(list_of({0x11, 0x02, 0x80, 0x00}).whole) << "before the first cluster";
    EXPECT_THAT(list_of({0x11, 0x02, 0x80, 0x00}).runs, IsEmpty());
    EXPECT_FALSE(list_of({0x31, 0x02, 0x00, 0x00, 0x7F, 0x00}).whole) << "behind the last cluster";
    EXPECT_FALSE(list_of({0x11, 0x02}).whole) << "no end";
    EXPECT_FALSE(list_of({0x11, 0x00, 0x05, 0x00}).whole) << "an empty run";
    EXPECT_FALSE(list_of({0x19, 1, 2, 3, 4, 5, 6, 7, 8, 9, 5, 0}).whole) << "a length of nine bytes";
    EXPECT_FALSE(list_of({0x08, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0x7F, 0x00}).whole)
        << "more bytes than can be counted";
    // A run that is left out leaves a hole.
    const auto holed = list_of({0x11, 0x02, 0x80, 0x11, 0x01, 0x7F, 0x11, 0x01, 0x05, 0x00});
    EXPECT_TRUE(extents_of(holed, 4 * 4096, 4 * 4096, g).front().is_unknown());
}

TEST(NtfsRunlist, PiecesMustFollowEachOther) {
    Runlist list = decode_mapping_pairs(ByteView(bytes({0x11, 0x02, 0x10, 0x00})), 0, geometry());
    Runlist overlapping = decode_mapping_pairs(ByteView(bytes({0x11, 0x02, 0x20, 0x00})), 1, geometry());
    list.append(overlapping);
    EXPECT_FALSE(list.whole);
    EXPECT_EQ(list.runs.size(), 1U);
}

TEST(NtfsAttributes, LengthsThatMakeNoSenseEndTheList) {
    FileRecordSegmentHeader header{};
    header.FirstAttributeOffset = 56;
    for (const std::uint32_t length : {0U, 4U, 12U, 0xFFFFFFFFU, 0xFFFFFFF8U}) {
        std::vector<std::byte> record(1024);
        AttributeRecordHeader attribute{};
        attribute.TypeCode = DATA;
        attribute.RecordLength = length;
        put(record, 56, attribute);
        AttributeReader reader(ByteView(record), header);
        EXPECT_FALSE(reader.next()) << length;
        EXPECT_FALSE(reader.ended_well()) << length;
    }
}

TEST(NtfsFolders, PathsFollowLives) {
    Folders folders;
    folders.add(5, 5, true, {5, 5}, ".");
    folders.add(40, 3, true, {5, 5}, "Logs");
    folders.add(41, 9, false, {40, 3}, "Terns");
    EXPECT_EQ(folders.path_of({5, 5}), "");
    EXPECT_EQ(folders.path_of({40, 3}), "Logs");
    EXPECT_EQ(folders.path_of({41, 8}), "Logs/Terns") << "freed, its sequence number rose by one";
    EXPECT_EQ(folders.path_of({41, 7}), "(folder 41)") << "another file had it before";
    EXPECT_EQ(folders.path_of({40, 2}), "(folder 40)") << "in use, so it is another one";
    folders.add_former({40, 2}, {5, 5}, "Old logs");
    EXPECT_EQ(folders.path_of({40, 2}), "Old logs");
}

TEST(NtfsFolders, CirclesEnd) {
    Folders folders;
    folders.add(40, 1, true, {41, 1}, "a");
    folders.add(41, 1, true, {40, 1}, "b");
    EXPECT_EQ(folders.path_of({41, 1}), "(folder 41)");
}

TEST(NtfsFolders, SequenceNumbersLeaveOutZero) {
    EXPECT_TRUE(is_same_life(65'535, 1, false));
    EXPECT_FALSE(is_same_life(65'535, 1, true));
    EXPECT_TRUE(is_same_life(4, 4, false));
    EXPECT_FALSE(is_same_life(4, 6, false));
    EXPECT_EQ(sequence_before_freeing(1), 65'535);
    EXPECT_EQ(sequence_before_freeing(5), 4);
}

// A name as an index keeps it, at `at`; the entry before it tells the file.
void put_entry(std::vector<std::byte>& block, std::size_t at, std::uint64_t file, const std::u16string& text) {
    IndexEntry entry{};
    entry.FileReference.SegmentNumberLowPart = static_cast<std::uint32_t>(file);
    entry.FileReference.SequenceNumber = 2;
    entry.AttributeLength = static_cast<std::uint16_t>(sizeof(FileName) + text.size() * 2);
    entry.Length = static_cast<std::uint16_t>(divide_up(sizeof entry + entry.AttributeLength, 8) * 8);
    put(block, at, entry);
    FileName name{};
    name.ParentDirectory.SegmentNumberLowPart = 40;
    name.ParentDirectory.SequenceNumber = 3;
    name.CreationTime = name.LastModificationTime = name.LastChangeTime = name.LastAccessTime = 133'000'000'000'000'000;
    name.AllocatedLength = 4096;
    name.FileSize = 1234;
    name.FileNameLength = static_cast<std::uint8_t>(text.size());
    name.Flags = FILE_NAME_WIN32;
    put(block, at + sizeof entry, name);
    for (std::size_t i = 0; i < text.size(); ++i)
        put(block, at + sizeof entry + sizeof name + 2 * i, boost::endian::little_uint16_t(text[i]));
}

TEST(NtfsIndexSlack, FindsNamesWithAndWithoutTheirEntry) {
    std::vector<std::byte> block(4096);
    put_entry(block, 64, 77, u"terns.csv");
    put_entry(block, 256, 78, u"skuas.csv");
    put_entry(block, 512, 79, u"auks.csv");
    // The mark of the end covers the entry of the second and, longer, the folder of the third.
    put(block, 256, IndexEntry{});
    put(block, 512 + sizeof(IndexEntry), std::uint64_t{0xFFFFFFFF});
    std::vector<FormerName> found;
    find_former_names(ByteView(block, 10'000), 0, {40, 3}, found);
    ASSERT_EQ(found.size(), 3U);
    EXPECT_EQ(found[0].name.text, "terns.csv");
    EXPECT_TRUE(found[0].has_file);
    EXPECT_EQ(found[0].file, (Reference{77, 2}));
    EXPECT_EQ(found[0].name.size, 1234U);
    EXPECT_FALSE(found[1].has_file);
    EXPECT_EQ(found[1].offset, 10'000U + 256 + sizeof(IndexEntry));
    EXPECT_EQ(found[2].name.parent.number(), 40U);
}

TEST(NtfsIndexSlack, NonsenseIsNoName) {
    std::vector<std::byte> block(4096);
    put_entry(block, 64, 77, u"a/b.csv");
    put_entry(block, 256, 77, u"bell\a.csv");
    put_entry(block, 512, 77, u"no time.csv");
    put(block, 512 + sizeof(IndexEntry) + 16, std::uint64_t{5});
    std::vector<FormerName> found;
    find_former_names(ByteView(block), 0, {40, 3}, found);
    EXPECT_THAT(found, IsEmpty());
}

TEST(NtfsJournal, KeepsDeletionsAndOutlivesNonsense) {
    const auto record = [](std::uint32_t number, std::uint32_t reason, const std::u16string& name) {
        UsnRecordV2 r{};
        r.RecordLength = static_cast<std::uint32_t>(divide_up(sizeof r + name.size() * 2, 8) * 8);
        r.MajorVersion = 2;
        r.FileReferenceNumber.SegmentNumberLowPart = number;
        r.FileReferenceNumber.SequenceNumber = 1;
        r.TimeStamp = 133'000'000'000'000'000;
        r.Reason = reason;
        r.FileNameLength = static_cast<std::uint16_t>(name.size() * 2);
        r.FileNameOffset = sizeof r;
        std::vector<std::byte> out(r.RecordLength);
        put(out, 0, r);
        std::memcpy(out.data() + sizeof r, name.data(), name.size() * 2);
        return out;
    };
    std::vector<std::byte> journal(40, std::byte{0xAA});
    for (const auto& one :
         {record(50, USN_REASON_FILE_CREATE, u"new.txt"),
          record(50, USN_REASON_FILE_CREATE | USN_REASON_DATA_EXTEND | USN_REASON_CLOSE, u"new.txt"),
          record(50, USN_REASON_RENAME_NEW_NAME | USN_REASON_CLOSE, u"gone.txt"),
          record(50, USN_REASON_FILE_DELETE | USN_REASON_CLOSE, u"gone.txt"), record(51, USN_REASON_CLOSE, u"kept.txt"),
          std::vector<std::byte>(16), record(52, USN_REASON_FILE_DELETE, u"also gone.txt")})
        journal.insert(journal.end(), one.begin(), one.end());
    UsnJournal usn;
    usn.read(test::MemoryMedium(journal));
    ASSERT_NE(usn.find({50, 1}), nullptr);
    EXPECT_EQ(usn.find({50, 1})->name, "gone.txt");
    EXPECT_EQ(usn.find({51, 1}), nullptr);
    EXPECT_NE(usn.find({52, 1}), nullptr);
    const std::string when = "2022-06-18 04:26:40 ";
    EXPECT_THAT(usn.history_of({50, 1}),
                testing::ElementsAre(when + "created, written", when + "renamed to gone.txt", when + "deleted"));
    EXPECT_THAT(usn.history_of({53, 1}), IsEmpty());
}

}  // namespace
}  // namespace dredger::ntfs
