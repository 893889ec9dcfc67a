#include "base/text.h"

#include <gtest/gtest.h>

#include "base/crc32c.h"
#include "base/csv.h"
#include "base/digest.h"
#include "support/support.h"

namespace dredger {
namespace {

TEST(Text, Utf16BecomesUtf8) {
    EXPECT_EQ(utf16_to_utf8(u"Küken 鳥 🐦"), "Küken 鳥 🐦");
    EXPECT_EQ(utf16_to_utf8(std::u16string(1, u'\xD83D')), "\xEF\xBF\xBD");
}

TEST(Text, CodePagesDifferWhereTheyShould) {
    const auto bytes = test::bytes_of("\x81\x9B\x9E");
    EXPECT_EQ(code_page_to_utf8(bytes, CodePage::cp437), "ü¢₧");
    EXPECT_EQ(code_page_to_utf8(bytes, CodePage::cp850), "üø×");
}

TEST(Text, FoldingIgnoresLetterCase) {
    EXPECT_EQ(folded("ÄRGER.JPG"), folded("ärger.jpg"));
    EXPECT_EQ(folded("Чайки"), folded("ЧАЙКИ"));
}

TEST(Text, ExtensionIsBehindTheLastPoint) {
    EXPECT_EQ(extension_of("nest.tar.GZ"), "gz");
    EXPECT_EQ(extension_of(".hidden"), "");
    EXPECT_EQ(extension_of("none"), "");
}

TEST(Text, PrintableKeepsNamesFromSteeringATerminal) {
    EXPECT_EQ(printable("a\x1B[31mb"), "a\xEF\xBF\xBD[31mb");
    EXPECT_EQ(printable("Vögel 🐦 鳥"), "Vögel 🐦 鳥");
    EXPECT_EQ(printable("\xFF"), "\xEF\xBF\xBD");
    EXPECT_EQ(printable("a\u202Eb"),
              "a\xEF\xBF\xBD"
              "b");
}

TEST(Text, BytesAsDigits) {
    std::array<std::byte, 16> uuid{};
    for (std::size_t i = 0; i < uuid.size(); ++i) uuid[i] = static_cast<std::byte>(i * 0x11);
    EXPECT_EQ(hexadecimal(uuid), "00112233445566778899aabbccddeeff");
    EXPECT_EQ(uuid_text(uuid), "00112233-4455-6677-8899-aabbccddeeff");
    EXPECT_EQ(hexadecimal({}), "");
}

TEST(Csv, BytesThatAreNoTextAndLooseEnds) {
    EXPECT_EQ(csv_row({"caf\xE9", " a", "b\t", "é", ""}), "caf\xEF\xBF\xBD,\" a\",\"b\t\",é,\r\n");
}

TEST(Csv, QuotesWhatNeedsIt) { EXPECT_EQ(csv_row({"a", "b,c", "d\"e", "f\ng"}), "a,\"b,c\",\"d\"\"e\",\"f\ng\"\r\n"); }

TEST(Csv, ReadsItsOwnRowsAndSpreadsheets) {
    const auto own = parse_csv(csv_row({"id", "path"}) + csv_row({"7", "Calls, \"loud\"\r\n.wav"}));
    ASSERT_TRUE(own);
    ASSERT_EQ(own->size(), 1U);
    EXPECT_EQ(own->front().at("path"), "Calls, \"loud\"\r\n.wav");
    const auto marked = parse_csv("\xEF\xBB\xBFpath,id\na.jpg,12\n");
    ASSERT_TRUE(marked);
    EXPECT_EQ(marked->front().at("id"), "12");
    EXPECT_FALSE(parse_csv(""));
}

TEST(Text, NumbersStandInFrontOfTheExtension) {
    EXPECT_EQ(numbered_name("terns.csv", 2), "terns (2).csv");
    EXPECT_EQ(numbered_name("Nest camera", 3), "Nest camera (3)");
    EXPECT_EQ(numbered_name(".ringing", 2), ".ringing (2)");
    EXPECT_EQ(numbered_name("calls.tar.gz", 2), "calls.tar (2).gz");
}

TEST(Digest, KnownSums) {
    Sha256 digest;
    digest.add(test::bytes_of("ab"));
    digest.add(test::bytes_of("c"));
    EXPECT_EQ(digest.finish(), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
    EXPECT_EQ(crc32(test::bytes_of("123456789")), 0xCBF43926U);
    EXPECT_EQ(crc32c(std::vector<std::byte>(32)), 0x8A9136AAU) << "RFC 3720, B.4";
}

TEST(Paths, AreSplitWhereTheyWereJoined) {
    for (const auto& [folder, name] : {std::pair{"Logs/2026", "May.txt"}, {"Logs", "May.txt"}, {"", "May.txt"}}) {
        const std::string path = joined(folder, name);
        EXPECT_EQ(split_path(path).folder, folder);
        EXPECT_EQ(split_path(path).name, name);
    }
    EXPECT_EQ(split_path("").name, "");
    EXPECT_EQ(split_path("Logs/").name, "");
}

TEST(PercentSigns, StandForTheByteBehindThem) {
    EXPECT_EQ(percent_decoded("Ring%20list%2Ecsv"), "Ring list.csv");
    EXPECT_EQ(percent_decoded("%c3%B6"), "\u00f6");
    for (const char* plain : {"", "100%", "5%z1", "%4"}) EXPECT_EQ(percent_decoded(plain), plain);
}

}  // namespace
}  // namespace dredger
