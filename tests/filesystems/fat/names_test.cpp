#include "filesystems/fat/names.h"

#include <algorithm>
#include <gtest/gtest.h>

namespace dredger::fat {
namespace {

ShortName name(std::string_view eleven) {
    ShortName out{};
    std::copy(eleven.begin(), eleven.end(), out.begin());
    return out;
}

TEST(FatNames, TheChecksumGivesBackALostFirstByte) {
    const ShortName whole = name("PROJEK~1TXT");
    ShortName lost = whole;
    lost[0] = 0xE5;
    EXPECT_EQ(first_byte_for(lost, checksum(whole)), 'P');
    for (unsigned first = 0; first < 256; ++first) {
        lost[0] = static_cast<std::uint8_t>(first);
        const std::uint8_t sum = checksum(lost);
        EXPECT_EQ(first_byte_for(whole, sum), first);
    }
}

TEST(FatNames, AreShownWithTheirLowerCaseFlags) {
    EXPECT_EQ(shown(name("NEST0001JPG"), 0, CodePage::cp850), "NEST0001.JPG");
    EXPECT_EQ(shown(name("AUKS    CSV"), kLowerCaseBase | kLowerCaseExtension, CodePage::cp850), "auks.csv");
    EXPECT_EQ(shown(name("README     "), 0, CodePage::cp850), "README");
    EXPECT_EQ(shown(name("AUKS    CSV"), kLowerCaseExtension, CodePage::cp850), "AUKS.csv");
}

TEST(FatNames, FollowTheCodePage) {
    EXPECT_EQ(shown(name("\x9AK      TXT"), 0, CodePage::cp850), "ÜK.TXT");
    EXPECT_EQ(shown(name("\x05K      TXT"), 0, CodePage::cp437), "σK.TXT");
}

TEST(FatNames, LongAndShortGoTogether) {
    EXPECT_TRUE(fits(u"Projekt Altbau.txt", name("PROJEK~1TXT")));
    EXPECT_TRUE(fits(u"Re_ colour rings.eml", name("RE_COL~1EML")));
    EXPECT_TRUE(fits(u"nest.jpeg", name("NEST~1  JPE")));
    EXPECT_TRUE(fits(u"été.txt", name("_T_~1   TXT")));
    EXPECT_TRUE(fits(u"Прилив.csv", name("______~1CSV")));
    EXPECT_TRUE(fits(u".hidden", name("HIDDEN~1   ")));
    EXPECT_TRUE(fits(u"Projekt Altbau.txt", name("PR3F2A~1TXT"))) << "a hash stands behind the first two";
}

TEST(FatNames, StrayLongNamesDoNotFit) {
    EXPECT_FALSE(fits(u"Projekt Altbau.txt", name("GULLS   TXT")));
    EXPECT_FALSE(fits(u"Projekt Altbau.txt", name("PROJEK~1CSV")));
    EXPECT_FALSE(fits(u"Projekt Altbau", name("PROJEK~1TXT")));
    EXPECT_FALSE(fits(u"Projekt.txt", name("PUFFIN~1TXT")));
}

TEST(FatNames, ShortOnesHaveOnlyTheirCharacters) {
    EXPECT_TRUE(is_short_name(name("NEST0001JPG"), true));
    EXPECT_TRUE(is_short_name(name("A       B  "), true));
    EXPECT_FALSE(is_short_name(name("nest0001JPG"), true));
    EXPECT_FALSE(is_short_name(name("AB*D    TXT"), true));
    EXPECT_FALSE(
        is_short_name(std::to_array<std::uint8_t>({'A', 'B', 1, ' ', ' ', ' ', ' ', ' ', 'T', 'X', 'T'}), true));
    EXPECT_TRUE(is_short_name(name("\xE5"
                                   "EST0001JPG"),
                              false));
}

TEST(FatNames, LongOnesToo) {
    EXPECT_TRUE(is_long_name(u"Küken & Nest (4).jpg"));
    EXPECT_FALSE(is_long_name(u"a/b"));
    EXPECT_FALSE(is_long_name(u"tab\there"));
    EXPECT_FALSE(is_long_name(u""));
    EXPECT_FALSE(is_long_name(std::u16string(256, u'a')));
}

TEST(FatNames, NeighboursTellALostFirstLetter) {
    const ShortName lost = name("_EST0007JPG");
    EXPECT_EQ(first_byte_from_neighbours(lost, {name("NEST0001JPG"), name("NEST0002JPG")}), 'N');
    EXPECT_EQ(first_byte_from_neighbours(lost, {name("NEST0001JPG"), name("GULLS   TXT")}), 'N');
    EXPECT_EQ(first_byte_from_neighbours(lost, {name("NEST0001JPG"), name("REST0002JPG")}), std::nullopt);
    EXPECT_EQ(first_byte_from_neighbours(lost, {name("NEST0001CSV")}), std::nullopt);
    EXPECT_EQ(first_byte_from_neighbours(name("_0000001JPG"), {name("10000002JPG")}), std::nullopt)
        << "any digit could be lost";
}

TEST(FatNames, CamerasTellItTooWhereOnlyOneNameGoesWithTheRest) {
    EXPECT_EQ(first_byte_of_device_name(name("_MG_0012JPG"), false), 'I');
    EXPECT_EQ(first_byte_of_device_name(name("_SC_0012JPG"), false), 'D');
    EXPECT_EQ(first_byte_of_device_name(name("_CAN0001PDF"), false), 'S');
    EXPECT_EQ(first_byte_of_device_name(name("_CIM       "), true), 'D');
    EXPECT_EQ(first_byte_of_device_name(name("_00CANON   "), true), '1');
    EXPECT_EQ(first_byte_of_device_name(name("_EST0012JPG"), false), std::nullopt);
    EXPECT_EQ(first_byte_of_device_name(name("_CIM       "), false), std::nullopt);
}

}  // namespace
}  // namespace dredger::fat
