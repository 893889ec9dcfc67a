#include "formats/part.h"

#include <gmock/gmock.h>

#include "formats/format.h"
#include "formats/unpacking.h"
#include "support/compound.h"
#include "support/support.h"

namespace dredger {
namespace {

using testing::Contains;
using testing::IsEmpty;

struct Apart {
    std::vector<Part> parts;
    Measured measured;
};

Apart apart(const char* format, std::vector<std::byte> bytes) {
    const test::MemoryMedium medium(std::move(bytes));
    Budget budget;
    Reader reader(medium, budget);
    Apart result;
    result.measured = format_named(format)->take_apart(reader, [&](Part&& part) {
        result.parts.push_back(std::move(part));
        return true;
    });
    return result;
}

std::vector<std::byte> sample(const char* name) {
    static const auto all = test::samples();
    return all.at(name);
}

std::vector<std::string> names(const Apart& from) {
    std::vector<std::string> list;
    for (const Part& part : from.parts) list.push_back(part.name);
    return list;
}

// Whoever measures and whoever takes apart walk the same way.
TEST(Parts, TellingThemChangesNothingOfWhatIsMeasured) {
    for (const auto& [name, bytes] : test::samples())
        for (const Format* format : all_formats()) {
            if (!format->take_apart || !name.starts_with(std::string(format->name) + "-")) continue;
            const test::MemoryMedium medium(bytes);
            Budget budget;
            Reader reader(medium, budget);
            const Measured measured = measure(*format, reader);
            const Apart told = apart(std::string(format->name).c_str(), bytes);
            EXPECT_EQ(told.measured.length, measured.length) << name;
            EXPECT_EQ(told.measured.end, measured.end) << name;
            EXPECT_FALSE(told.parts.empty()) << name;
            std::uint64_t before = 0;
            for (const Part& part : told.parts)
                for (const Extent& extent : part.where) {
                    EXPECT_LE(extent.end(), bytes.size()) << name << " " << part.role << " " << part.name;
                    before = extent.offset;
                }
            EXPECT_GT(before, 0U) << name;
        }
}

TEST(Parts, EntriesOfAnArchiveCanBeUnpacked) {
    const auto bytes = sample("docx-office.docx");
    const Apart told = apart("zip", bytes);
    EXPECT_THAT(names(told), Contains("word/document.xml"));
    const test::MemoryMedium medium(bytes);
    Budget budget;
    Reader reader(medium, budget);
    for (const Part& entry : told.parts) {
        EXPECT_EQ(entry.check, Part::Check::right) << entry.name;
        EXPECT_EQ(bytes_of(reader, entry, 1 << 20).size(), entry.size) << entry.name;
    }
}

TEST(Parts, BehindADamagedEntryTheOthersAreTold) {
    auto bytes = sample("docx-office.docx");
    const Apart before = apart("zip", bytes);
    ASSERT_GT(before.parts.size(), 3U);
    const Extent place = before.parts[1].where.front();
    bytes[place.offset + place.length / 2] ^= std::byte{0x55};
    const Apart told = apart("zip", bytes);
    EXPECT_EQ(told.measured.end, Measured::End::broken);
    EXPECT_EQ(names(told), names(before));
    EXPECT_EQ(told.parts[1].check, Part::Check::wrong);
    EXPECT_EQ(told.parts[2].check, Part::Check::right);
}

TEST(Parts, StreamsOfACompoundFileAreListsOfPlaces) {
    const auto bytes = sample("doc-office.doc");
    const Apart told = apart("ole2", bytes);
    EXPECT_THAT(names(told), Contains("WordDocument"));
    const test::MemoryMedium medium(bytes);
    Budget budget;
    Reader reader(medium, budget);
    for (const Part& stream : told.parts) {
        std::uint64_t length = 0;
        for (const Extent& extent : stream.where) length += extent.length;
        EXPECT_EQ(length, stream.size) << stream.name;
        EXPECT_EQ(bytes_of(reader, stream, 100).size(), std::min<std::uint64_t>(100, stream.size));
    }
}

TEST(Parts, SmallStreamsLieInTheOneOfTheRoot) {
    const auto bytes = sample("doc-office.doc");
    const Apart told = apart("ole2", bytes);
    const auto summary = std::find_if(told.parts.begin(), told.parts.end(),
                                      [](const Part& part) { return part.name == "\x05SummaryInformation"; });
    ASSERT_NE(summary, told.parts.end());
    EXPECT_LT(summary->size, 4096U);
    EXPECT_EQ(summary->check, Part::Check::right);
    const test::MemoryMedium medium(bytes);
    Budget budget;
    Reader reader(medium, budget);
    // A property set begins with its byte order ([MS-OLEPS] 2.21).
    EXPECT_EQ(bytes_of(reader, *summary, 4), std::string_view("\xFE\xFF\0\0", 4));
}

// What stands before the cut is had.
TEST(Parts, ACompoundFileThatIsCutStillTellsItsStreams) {
    test::Compound file;
    file.add(u"Counts", std::string(5000, 'c'));
    file.add(u"Ledges", std::string(9000, 'l'));
    const auto bytes = file.bytes();
    auto cut = bytes;
    cut.resize(bytes.size() - test::Compound::kSector);
    EXPECT_THAT(names(apart("ole2", bytes)), testing::ElementsAre("Counts", "Ledges"));
    EXPECT_EQ(names(apart("ole2", cut)), names(apart("ole2", bytes)));
    EXPECT_EQ(apart("ole2", cut).measured.end, Measured::End::broken);
}

TEST(Parts, MessagesOfAMailboxBeginBehindTheirLines) {
    const std::string first =
        "From: a@station.example\nTo: b@station.example\nSubject: Rings\nDate: x\n\nTwo chicks.\n\n";
    const std::string second = "From: c@station.example\nTo: b@station.example\nSubject: Boat\n\nSix seats.\n";
    const std::string box = "From a@station.example Sun May  3 09:12:44 2026\n" + first +
                            "From c@station.example Mon May  4 10:00:00 2026\n" + second;
    const Apart told = apart("mbox", test::bytes_of(box));
    ASSERT_EQ(told.parts.size(), 2U);
    const auto text = [&](const Part& part) {
        return box.substr(static_cast<std::size_t>(part.where.front().offset),
                          static_cast<std::size_t>(part.where.front().length));
    };
    EXPECT_EQ(text(told.parts[0]), first);
    EXPECT_EQ(text(told.parts[1]), second);
}

TEST(Parts, ObjectsSegmentsAndChunksAreTold) {
    EXPECT_THAT(names(apart("pdf", sample("pdf-office.pdf"))), Contains("1"));
    const Apart picture = apart("jpeg", sample("jpeg-baseline.jpg"));
    EXPECT_EQ(std::count_if(picture.parts.begin(), picture.parts.end(), [](const Part& p) { return p.role == "scan"; }),
              1);
    EXPECT_THAT(names(picture), Contains("DB"));
}

TEST(Parts, NoMoreAreToldThanAreWanted) {
    const test::MemoryMedium medium(sample("docx-office.docx"));
    Budget budget;
    Reader reader(medium, budget);
    unsigned told = 0;
    (void)format_named("zip")->take_apart(reader, [&](Part&&) { return ++told < 2; });
    EXPECT_EQ(told, 2U);
}

TEST(Parts, WhatCannotBeUnpackedHasNoBytes) {
    const test::MemoryMedium medium(sample("docx-office.docx"));
    Budget budget;
    Reader reader(medium, budget);
    EXPECT_THAT(bytes_of(reader, {"entry", "", {{0, 100}}, Packing::unknown, 100}, 100), IsEmpty());
    EXPECT_THAT(bytes_of(reader, {"entry", "", {}, Packing::deflate, 100}, 100), IsEmpty());
    EXPECT_EQ(bytes_of(reader, {"entry", "", {{0, 4}, {0, 2}}, Packing::none, 6}, 100), "PK\3\4PK");
}

}  // namespace
}  // namespace dredger
