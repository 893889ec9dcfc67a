// Walks NTFS media that a real driver wrote, and the same media with single things damaged.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/walked.h"

namespace dredger {
namespace {

using test::expect_truth;
using test::MemoryMedium;
using test::Walked;
using testing::Contains;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;

std::optional<std::string> fact(const Record& record, const std::string& name) {
    for (const Fact& f : record.facts)
        if (f.name == name) return f.value;
    return std::nullopt;
}

// Where the record with this number lies on a medium whose file table is in one piece.
std::uint64_t offset_of_record(const Walked& walked, std::uint64_t number, std::uint64_t record_size) {
    const auto boot = walked.volume->bytes(0, 512).value();
    const ByteView view(boot);
    const std::uint64_t cluster = view.u16le(11).value() * std::uint64_t{view.u8(13).value()};
    return view.u64le(48).value() * cluster + number * record_size;
}

// Of the removed hard link no byte is left on the medium.
const std::vector<std::string> kNoTrace = {"Nest photos/Best of the year"};

TEST(NtfsWalk, AllSortsOfFiles) {
    const Walked walked("ntfs-office");
    expect_truth(walked, "ntfs-office", {kNoTrace[0], "Notes/Fulmar notes.txt"});
    EXPECT_EQ(walked.filesystem->facts().filesystem, "NTFS");
    EXPECT_EQ(walked.filesystem->facts().label, "OFFICE");
    EXPECT_EQ(walked.filesystem->facts().cluster_size, 4096U);
    EXPECT_EQ(walked.filesystem->facts().serial.size(), 16U);
    EXPECT_THAT(walked.warnings, IsEmpty());
    EXPECT_THAT(walked.filesystem->facts().warnings, IsEmpty());
}

TEST(NtfsWalk, SectorsAndRecordsOf4KiB) {
    const Walked walked("ntfs-4k");
    expect_truth(walked, "ntfs-4k");
}

TEST(NtfsWalk, RecordsThatLieInTwoClusters) {
    const Walked walked("ntfs-small");
    expect_truth(walked, "ntfs-small");
    EXPECT_EQ(walked.filesystem->facts().cluster_size, 512U);
}

TEST(NtfsWalk, RecordsThatWereUsedAgainLeaveNamesAtBest) {
    const Walked walked("ntfs-worn");
    std::size_t remnants = 0;
    for (const Record& record : walked.found.records) {
        if (record.origin != Origin::remnant || record.is_folder) continue;
        ++remnants;
        EXPECT_EQ(record.trust, LayoutTrust::none) << record.path();
        EXPECT_TRUE(record.layout.empty()) << record.path();
        EXPECT_GT(record.size, 0U) << record.path();
        EXPECT_THAT(record.notes, Contains(HasSubstr("index still has its name")));
    }
    EXPECT_GT(remnants, 0U);
}

TEST(NtfsWalk, ResidentContentStandsInItsRecord) {
    const Walked walked("ntfs-office");
    const Record* note = walked.found.find("Notes/Note 4.txt");
    ASSERT_NE(note, nullptr);
    EXPECT_TRUE(note->layout.within_records);
    // It crosses the end of a sector, whose last two bytes are kept at the start of the record.
    ASSERT_EQ(note->layout.extents.size(), 3U);
    EXPECT_EQ(note->layout.extents[1].length, 2U);
    EXPECT_LT(note->layout.extents[1].offset, note->layout.extents[0].offset);
}

TEST(NtfsWalk, CompressedFilesAreUnpacked) {
    const Walked walked("ntfs-office");
    const Record* log = walked.found.find("Packed/log 2.txt");
    ASSERT_NE(log, nullptr);
    EXPECT_EQ(log->layout.codec, Codec::lznt1);
    EXPECT_EQ(log->layout.unit, 65'536U);
    EXPECT_THAT(log->attributes, Contains("compressed"));
    std::uint64_t stored = 0;
    for (const Extent& extent : log->layout.extents)
        if (extent.is_stored()) stored += extent.length;
    EXPECT_LT(stored, log->size);
}

TEST(NtfsWalk, SparseStretchesAreZerosByDefinition) {
    const Walked walked("ntfs-office");
    const Record* sparse = walked.found.find("Sparse.img");
    ASSERT_NE(sparse, nullptr);
    EXPECT_THAT(sparse->layout.extents, Contains(testing::Property(&Extent::is_zeros, true)));
    EXPECT_EQ(sparse->trust, LayoutTrust::exact);
}

TEST(NtfsWalk, RunsThatFillSeveralRecordsAreJoined) {
    const Walked walked("ntfs-office");
    const Record* many = walked.found.find("Many pieces.bin");
    ASSERT_NE(many, nullptr);
    EXPECT_GT(many->layout.extents.size(), 150U);
    EXPECT_FALSE(many->keeping.empty()) << "the list of its records";
    std::uint64_t laid = 0;
    for (const Extent& extent : many->layout.extents) laid += extent.length;
    EXPECT_EQ(laid, many->size) << "also of the record that the list does not name any more";
}

TEST(NtfsWalk, StreamsAreFilesBesideTheirFile) {
    const Walked walked("ntfs-office");
    const Record* permit = walked.found.find("Permits/Landing permit 2026.pdf");
    const Record* preview = walked.found.find("Permits/Landing permit 2026.pdf;preview.jpg");
    ASSERT_NE(permit, nullptr);
    ASSERT_NE(preview, nullptr);
    EXPECT_THAT(fact(*permit, "alternate stream").value_or(""),
                HasSubstr("9000 bytes, listed as Landing permit 2026.pdf;preview.jpg"));
    EXPECT_FALSE(fact(*preview, "alternate stream"));
    EXPECT_EQ(preview->identity.number, permit->identity.number);
}

TEST(NtfsWalk, TheJournalTellsWhenSomethingWasDeleted) {
    const Walked walked("ntfs-office");
    EXPECT_EQ(iso8601(walked.found.find("Notes/Note 1.txt")->deleted.value()), "2026-07-11T09:00:30Z");
    EXPECT_EQ(iso8601(walked.found.find("Notes/Note 3.txt")->deleted.value()), "2026-07-11T09:01:30Z");
    EXPECT_FALSE(walked.found.find("Notes/Note 4.txt")->deleted);
    const Record* fulmar = walked.found.find("Notes/Fulmar notes.txt");
    ASSERT_NE(fulmar, nullptr) << "only the journal tells of it";
    EXPECT_EQ(fulmar->origin, Origin::remnant);
    EXPECT_EQ(fulmar->trust, LayoutTrust::none);
}

TEST(NtfsWalk, OnlyLiveOnesWhenAskedFor) {
    const Walked all("ntfs-office");
    WalkOptions options;
    options.live_only = true;
    test::Collector live;
    std::vector<std::string> warnings;
    ASSERT_TRUE(all.filesystem->walk(options, live, warnings));
    const auto expected = std::count_if(all.found.records.begin(), all.found.records.end(),
                                        [](const Record& r) { return r.state == State::live; });
    EXPECT_EQ(static_cast<std::ptrdiff_t>(live.records.size()), expected);
    for (const Record& record : live.records) EXPECT_EQ(record.state, State::live) << record.path();
}

TEST(NtfsWalk, AnyRecordCanBeTheLast) {
    const Walked walked("ntfs-4k");
    for (const std::size_t most : {1U, 20U, 100U, 125U}) {
        test::Collector some;
        some.most = most;
        std::vector<std::string> warnings;
        ASSERT_TRUE(walked.filesystem->walk({}, some, warnings));
        EXPECT_EQ(some.records.size(), most);
    }
}

TEST(NtfsWalk, ItCanBeStoppedBeforeTheFirstRecord) {
    const Walked walked("ntfs-4k");
    WalkOptions options;
    options.go_on = [](const char*, std::uint64_t, std::uint64_t) { return false; };
    test::Collector none;
    std::vector<std::string> warnings;
    ASSERT_TRUE(walked.filesystem->walk(options, none, warnings));
    EXPECT_THAT(none.records, IsEmpty());
}

TEST(NtfsWalk, TheBootSectorsCopyIsEnough) {
    const Walked walked("ntfs-office", [](MemoryMedium& medium, std::uint64_t) {
        for (std::uint64_t at = 0; at < 512; ++at) medium.patch(at, 0);
    });
    expect_truth(walked, "ntfs-office", {kNoTrace[0], "Notes/Fulmar notes.txt"});
    EXPECT_THAT(walked.filesystem->facts().warnings, ElementsAre(HasSubstr("copy at the end of the volume")));
}

TEST(NtfsWalk, TheMirrorOfTheFileTableIsEnough) {
    const std::uint64_t table = offset_of_record(Walked("ntfs-office"), 0, 1024);
    const Walked walked("ntfs-office", [&](MemoryMedium& medium, std::uint64_t) {
        medium.patch(table + 600, 0xEE);
        medium.patch(table, 0);
    });
    expect_truth(walked, "ntfs-office", {kNoTrace[0], "Notes/Fulmar notes.txt"});
    EXPECT_THAT(walked.filesystem->facts().warnings, ElementsAre(HasSubstr("its copy is used")));
}

TEST(NtfsWalk, ATornRecordIsKeptAndDoubted) {
    const Walked whole("ntfs-office");
    const Record* photo = whole.found.find("Nest photos/Nest 03.jpg");
    ASSERT_NE(photo, nullptr);
    const std::uint64_t record = offset_of_record(whole, photo->identity.number, 1024);
    const Walked torn("ntfs-office", [&](MemoryMedium& medium, std::uint64_t) { medium.patch(record + 1022, 0xEE); });
    const Record* still = torn.found.find("Nest photos/Nest 03.jpg");
    ASSERT_NE(still, nullptr);
    EXPECT_EQ(still->trust, LayoutTrust::damaged);
    EXPECT_THAT(still->notes, Contains(HasSubstr("record in the file table is damaged")));
}

// Where the first attribute of this type begins in a record.
std::uint64_t offset_of_attribute(const Walked& walked, std::uint64_t record, std::uint32_t type) {
    const auto bytes = walked.volume->bytes(record, 1024).value();
    const ByteView view(bytes);
    std::size_t at = view.u16le(20).value();
    while (view.u32le(at).value() != type) at += view.u32le(at + 4).value();
    return record + at;
}

TEST(NtfsWalk, EncryptedContentIsNamedAsSuch) {
    const Walked whole("ntfs-office");
    const std::uint64_t record =
        offset_of_record(whole, whole.found.find("Nest photos/Nest 03.jpg")->identity.number, 1024);
    const std::uint64_t data = offset_of_attribute(whole, record, 0x80);
    const Walked walked("ntfs-office", [&](MemoryMedium& medium, std::uint64_t) { medium.patch(data + 13, 0x40); });
    const Record* photo = walked.found.find("Nest photos/Nest 03.jpg");
    ASSERT_NE(photo, nullptr);
    EXPECT_THAT(photo->attributes, Contains(std::string(kEncrypted)));
}

TEST(NtfsWalk, ContentThatWindowsKeepsElsewhereIsNotTakenForZeros) {
    const Walked whole("ntfs-office");
    const std::uint64_t record =
        offset_of_record(whole, whole.found.find("Nest photos/Nest 03.jpg")->identity.number, 1024);
    // Its security descriptor becomes a reparse point with the tag of Windows' own packing.
    const std::uint64_t descriptor = offset_of_attribute(whole, record, 0x50);
    const Walked walked("ntfs-office", [&](MemoryMedium& medium, std::uint64_t) {
        medium.patch32(descriptor, 0xC0);
        medium.patch32(descriptor + 24, 0x80000017);
    });
    const Record* photo = walked.found.find("Nest photos/Nest 03.jpg");
    ASSERT_NE(photo, nullptr);
    EXPECT_TRUE(photo->layout.empty());
    EXPECT_EQ(photo->trust, LayoutTrust::none);
    EXPECT_THAT(photo->notes, Contains(HasSubstr("Windows packed it")));
}

TEST(NtfsWalk, AListThatNamesItsOwnRecordOverAndOverEnds) {
    const Walked whole("ntfs-office");
    const Record* many = whole.found.find("Many pieces.bin");
    ASSERT_NE(many, nullptr);
    ASSERT_FALSE(many->keeping.empty());
    const std::uint64_t list = many->keeping.front().offset;
    const Walked walked("ntfs-office", [&](MemoryMedium& medium, std::uint64_t) {
        for (std::uint64_t entry = 0; entry < 128; ++entry) {
            medium.patch32(list + entry * 32, 0x80);
            medium.patch(list + entry * 32 + 4, 32);
            medium.patch(list + entry * 32 + 5, 0);
            medium.patch32(list + entry * 32 + 16, static_cast<std::uint32_t>(many->identity.number));
        }
    });
    EXPECT_NE(walked.found.find("Many pieces.bin"), nullptr);
}

TEST(NtfsWalk, AFileTableThatLiesWithinItselfIsReadOnce) {
    const Walked whole("ntfs-4k");
    const std::uint64_t data = offset_of_attribute(whole, offset_of_record(whole, 0, 4096), 0x80);
    const auto attribute = whole.volume->bytes(data, 80).value();
    const std::uint64_t pairs = data + ByteView(attribute).u16le(32).value();
    const auto first = whole.volume->bytes(pairs, 32).value();
    // Behind its last run: each is a header and so many bytes of length and place.
    std::size_t end = 0;
    while (const unsigned header = ByteView(first).u8(end).value()) end += 1 + (header & 15U) + (header >> 4U);
    const Walked walked("ntfs-4k", [&](MemoryMedium& medium, std::uint64_t) {
        // A further run at the place of the last one, and sizes that take both in.
        for (const auto& [at, value] :
             {std::pair(end, 0x11), std::pair(end + 1, 0x7F), std::pair(end + 2, 0), std::pair(end + 3, 0)})
            medium.patch(pairs + at, static_cast<std::uint8_t>(value));
        for (const std::uint64_t size : {40U, 48U, 56U}) medium.patch32(data + size, 64U << 20U);
    });
    EXPECT_EQ(walked.found.records.size(), whole.found.records.size());
    expect_truth(walked, "ntfs-4k");
}

TEST(NtfsWalk, ADestroyedRecordIsCountedAndCostsOnlyItself) {
    const Walked whole("ntfs-office");
    const std::uint64_t record =
        offset_of_record(whole, whole.found.find("Nest photos/Nest 03.jpg")->identity.number, 1024);
    const Walked walked("ntfs-office",
                        [&](MemoryMedium& medium, std::uint64_t) { medium.patch32(record, 0xDEADBEEF); });
    expect_truth(walked, "ntfs-office", {kNoTrace[0], "Notes/Fulmar notes.txt", "Nest photos/Nest 03.jpg"});
    EXPECT_THAT(walked.warnings, Contains(HasSubstr("1 records of the file table are damaged")));
}

TEST(NtfsWalk, AFolderWhoseRecordIsGoneIsNamedByItsNumber) {
    const Walked whole("ntfs-office");
    const std::uint64_t number = whole.found.find("Gannet survey/Counts")->identity.number;
    const Walked walked("ntfs-office", [&](MemoryMedium& medium, std::uint64_t) {
        medium.patch32(offset_of_record(whole, number, 1024), 0);
    });
    const Record* plot = nullptr;
    for (const Record& r : walked.found.records)
        if (r.name == "Plot A.csv") plot = &r;
    ASSERT_NE(plot, nullptr);
    EXPECT_EQ(plot->folder, "(folder " + std::to_string(number) + ")");
    EXPECT_THAT(plot->notes, Contains(HasSubstr("number of its record stands for it")));
    EXPECT_EQ(walked.sum_of(*plot), whole.sum_of(*whole.found.find("Gannet survey/Counts/Plot A.csv")));
}

TEST(NtfsWalk, AParentThatWasUsedAgainIsNotTheParent) {
    const Walked whole("ntfs-office");
    const std::uint64_t counts =
        offset_of_record(whole, whole.found.find("Gannet survey/Counts")->identity.number, 1024);
    const Walked walked("ntfs-office", [&](MemoryMedium& medium, std::uint64_t) { medium.patch(counts + 16, 0x77); });
    EXPECT_EQ(walked.found.find("Gannet survey/Counts/Plot A.csv"), nullptr);
}

TEST(NtfsWalk, ADamagedMapOfClustersIsSaid) {
    const std::uint64_t bitmap = offset_of_record(Walked("ntfs-4k"), 6, 4096);
    const Walked walked("ntfs-4k", [&](MemoryMedium& medium, std::uint64_t) { medium.patch(bitmap, 0); });
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("map of used clusters is damaged")));
    EXPECT_NE(walked.found.find("Gone/Below/Nest.jpg"), nullptr);
}

}  // namespace
}  // namespace dredger
