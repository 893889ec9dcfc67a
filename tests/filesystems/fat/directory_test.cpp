#include "filesystems/fat/directory.h"

#include <algorithm>
#include <bit>
#include <gtest/gtest.h>

namespace dredger::fat {
namespace {

DirectoryEntry short_entry(std::string_view eleven, bool deleted = false) {
    DirectoryEntry entry{};
    std::copy(eleven.begin(), eleven.end(), entry.DIR_Name);
    if (deleted) entry.DIR_Name[0] = kEntryFree;
    entry.DIR_Attr = ATTR_ARCHIVE;
    entry.DIR_WrtDate = (2026 - 1980) << 9 | 5 << 5 | 3;
    entry.DIR_FstClusLO = 100;
    entry.DIR_FileSize = 5000;
    return entry;
}

// One piece of a long name; `ordinal` as on disk, or E5.
DirectoryEntry piece(std::u16string_view text, std::uint8_t ordinal, std::uint8_t sum) {
    LongNameEntry entry{};
    entry.LDIR_Ord = ordinal;
    entry.LDIR_Attr = ATTR_LONG_NAME;
    entry.LDIR_Chksum = sum;
    const auto unit = [&](std::size_t i) -> std::uint16_t {
        return i < text.size() ? text[i] : i == text.size() ? 0 : 0xFFFF;
    };
    for (std::size_t i = 0; i < 5; ++i) entry.LDIR_Name1[i] = unit(i);
    for (std::size_t i = 0; i < 6; ++i) entry.LDIR_Name2[i] = unit(5 + i);
    for (std::size_t i = 0; i < 2; ++i) entry.LDIR_Name3[i] = unit(11 + i);
    return std::bit_cast<DirectoryEntry>(entry);
}

std::vector<Slot> slots(const std::vector<DirectoryEntry>& entries) {
    std::vector<Slot> list;
    for (const DirectoryEntry& entry : entries) list.push_back({list.size() * kEntrySize, entry});
    return list;
}

const std::uint8_t kSum = checksum(std::to_array(short_entry("PUFFIN~1CSV").DIR_Name));

TEST(FatDirectory, PutsALiveLongNameTogether) {
    const auto items =
        read_items(slots({piece(u"s.csv", 0x42, kSum), piece(u"Puffin burrow", 1, kSum), short_entry("PUFFIN~1CSV")}));
    ASSERT_EQ(items.size(), 1U);
    EXPECT_EQ(items[0].long_name, u"Puffin burrows.csv");
    EXPECT_EQ(items[0].offset, 64U);
    EXPECT_FALSE(items[0].deleted);
}

TEST(FatDirectory, LeavesTheShortNameWhereThePiecesDoNotBelong) {
    for (const auto& list : {std::vector{piece(u"Puffin.csv", 0x41, kSum ^ 1), short_entry("PUFFIN~1CSV")},
                             std::vector{piece(u"Puffin.csv", 0x42, kSum), short_entry("PUFFIN~1CSV")},
                             std::vector{piece(u"Puffin burrow", 1, kSum), short_entry("PUFFIN~1CSV")},
                             std::vector{piece(u"Puf/fin.csv", 0x41, kSum), short_entry("PUFFIN~1CSV")},
                             std::vector{piece(u"Puffin.csv", kEntryFree, kSum), short_entry("PUFFIN~1CSV")}})
        EXPECT_EQ(read_items(slots(list)).at(0).long_state, LongName::none);
}

TEST(FatDirectory, PutsADeletedLongNameTogetherWithoutItsOrdinals) {
    const auto items = read_items(slots({piece(u"s.csv", kEntryFree, kSum), piece(u"Puffin burrow", kEntryFree, kSum),
                                         short_entry("PUFFIN~1CSV", true)}));
    ASSERT_EQ(items.size(), 1U);
    EXPECT_TRUE(items[0].deleted);
    EXPECT_TRUE(items[0].first_known);
    EXPECT_EQ(items[0].short_name[0], 'P');
    EXPECT_EQ(items[0].long_name, u"Puffin burrows.csv");
    EXPECT_EQ(items[0].long_state, LongName::whole);
}

TEST(FatDirectory, NoticesALongNameWithoutItsEnd) {
    const auto items = read_items(slots(
        {short_entry("TERN    TXT"), piece(u"Puffin burrow", kEntryFree, kSum), short_entry("PUFFIN~1CSV", true)}));
    ASSERT_EQ(items.size(), 2U);
    EXPECT_EQ(items[1].long_state, LongName::cut);
    EXPECT_EQ(items[1].long_name, u"Puffin burrow");
}

TEST(FatDirectory, ANameOfWholePiecesNeedsNoTerminator) {
    const auto sum = checksum(std::to_array(short_entry("NEST0012JPG").DIR_Name));
    const auto items = read_items(slots({piece(u"Nest 0012.jpg", kEntryFree, sum), short_entry("NEST0012JPG", true)}));
    EXPECT_EQ(items.at(0).long_state, LongName::whole);
    EXPECT_EQ(items.at(0).long_name, u"Nest 0012.jpg");
}

TEST(FatDirectory, StrayPiecesOfAnotherDeletedFileAreNotGluedOn) {
    const auto items = read_items(slots({piece(u"Gannets.txt", kEntryFree, 0x77), short_entry("PUFFIN~1CSV", true)}));
    EXPECT_EQ(items.at(0).long_state, LongName::none);
    EXPECT_FALSE(items.at(0).first_known);
}

TEST(FatDirectory, EntriesBehindTheEndAreTakenOnlyIfTheyMakeSense) {
    DirectoryEntry junk = short_entry("\x01\x02\x03     TXT");
    const auto items =
        read_items(slots({short_entry("TERN    TXT"), DirectoryEntry{}, short_entry("SKUA    TXT"), junk}));
    ASSERT_EQ(items.size(), 2U);
    EXPECT_TRUE(items[1].behind_end);
    EXPECT_TRUE(items[1].deleted);
}

TEST(FatDirectory, DeletedEntriesHaveToMakeSense) {
    EXPECT_TRUE(makes_sense(short_entry("TERN    TXT"), true));
    DirectoryEntry odd = short_entry("TERN    TXT");
    odd.DIR_Attr = 0xC0;
    EXPECT_FALSE(makes_sense(odd, true));
    odd = short_entry("TERN    TXT");
    odd.DIR_WrtDate = 0xFFFF;
    EXPECT_FALSE(makes_sense(odd, true));
    odd = short_entry("TERN    TXT");
    odd.DIR_Attr = ATTR_DIRECTORY;
    EXPECT_FALSE(makes_sense(odd, true)) << "a folder has no size";
    odd = short_entry("TERN    TXT");
    odd.DIR_NTRes = 0x40;
    EXPECT_FALSE(makes_sense(odd, true));
}

TEST(FatDirectory, KnowsClustersThatBeginOrContinueAFolder) {
    DirectoryEntry dot = short_entry(".          ");
    DirectoryEntry dots = short_entry("..         ");
    for (DirectoryEntry* entry : {&dot, &dots}) {
        entry->DIR_Attr = ATTR_DIRECTORY;
        entry->DIR_FileSize = 0;
    }
    dots.DIR_FstClusLO = 7;
    const auto beginning = slots({dot, dots, short_entry("TERN    TXT")});
    ASSERT_TRUE(dot_entries(beginning));
    EXPECT_EQ(dot_entries(beginning)->self, 100U);
    EXPECT_EQ(dot_entries(beginning)->parent, 7U);
    EXPECT_FALSE(continues_directory(beginning));
    EXPECT_TRUE(
        continues_directory(slots({short_entry("TERN    TXT"), short_entry("SKUA    TXT", true), DirectoryEntry{}})));
    EXPECT_FALSE(
        continues_directory(slots({short_entry("TERN    TXT"), DirectoryEntry{}, short_entry("SKUA    TXT")})));
    EXPECT_FALSE(continues_directory(slots({DirectoryEntry{}})));
    EXPECT_FALSE(dot_entries(slots({short_entry("TERN    TXT"), dots})));
}

}  // namespace
}  // namespace dredger::fat
