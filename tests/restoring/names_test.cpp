#include "restoring/names.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <random>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

TEST(Names, NothingLeavesTheDestination) {
    EXPECT_EQ(mapped_path("../../etc/passwd", kUnixNames), fs::path("%2E%2E/%2E%2E/etc/passwd"));
    EXPECT_EQ(mapped_path("/abs//path", kUnixNames), fs::path("abs/path"));
    EXPECT_EQ(mapped_path("", kUnixNames), fs::path("%"));
    EXPECT_EQ(mapped_part("a/b", kUnixNames), "a%2Fb");
    EXPECT_EQ(mapped_part("a\x1b[2J", kUnixNames), "a%1B[2J");
    EXPECT_EQ(mapped_part("\xff\xfe name", kUnixNames), "%FF%FE name");
}

TEST(Names, UnixTakesWhatWindowsRefuses) {
    EXPECT_EQ(mapped_part("Nest 4: eggs?.txt", kUnixNames), "Nest 4: eggs?.txt");
    EXPECT_EQ(mapped_part("Nest 4: eggs?.txt", kWindowsNames), "Nest 4%3A eggs%3F.txt");
    EXPECT_EQ(mapped_part("con.txt", kWindowsNames), "%63on.txt");
    EXPECT_EQ(mapped_part("LPT1", kWindowsNames), "%4CPT1");
    EXPECT_EQ(mapped_part("console.txt", kWindowsNames), "console.txt");
    EXPECT_EQ(mapped_part("log.", kWindowsNames), "log%2E");
    EXPECT_EQ(mapped_part("log ", kWindowsNames), "log%20");
    EXPECT_EQ(mapped_part("a\\b", kWindowsNames), "a%5Cb");
}

TEST(Names, MappedOnesTellTheOriginals) {
    std::minstd_rand chance(5);
    for (int n = 0; n < 2000; ++n) {
        std::string name;
        const std::size_t length = 1 + chance() % 30;
        constexpr std::string_view kOften = "%2Ee./: \\con";
        while (name.size() < length)
            name += chance() % 3 == 0 ? static_cast<char>(chance()) : kOften[chance() % kOften.size()];
        for (const NameRules& rules : {kUnixNames, kWindowsNames}) {
            const std::string mapped = mapped_part(name, rules);
            EXPECT_EQ(original_part(mapped), name);
            EXPECT_EQ(mapped.find('/'), std::string::npos);
            EXPECT_NE(mapped, "..");
        }
    }
    EXPECT_EQ(original_part(mapped_part("", kUnixNames)), "");
    EXPECT_EQ(original_part(mapped_part("100%25 sure", kUnixNames)), "100%25 sure");
}

TEST(Names, LongOnesKeepTheirExtensionAndStayApart) {
    std::string name;
    for (int i = 0; i < 200; ++i) name += "鳥";
    const std::string part = mapped_part(name + ".jpeg", kUnixNames);
    EXPECT_LE(part.size(), 240U);
    EXPECT_TRUE(part.ends_with(".jpeg"));
    EXPECT_NE(part, mapped_part(name + "s.jpeg", kUnixNames));
    for (std::size_t cut = 0; cut < 6; ++cut) {
        const std::string escaped = mapped_part(std::string(150, ':').substr(cut) + ".txt", kWindowsNames);
        EXPECT_LE(escaped.size(), 240U);
        EXPECT_NE(escaped[escaped.find('~') - 1], '%');
    }
}

TEST(Names, AreOneWhereLetterCaseIsIgnored) {
    EXPECT_EQ(path_key("Nests/A.JPG", kWindowsNames), path_key("nests/a.jpg", kWindowsNames));
    EXPECT_NE(path_key("A.JPG", kUnixNames), path_key("a.jpg", kUnixNames));
    const test::TempFolder folder;
    EXPECT_EQ(rules_of(folder.path()), kUnixNames);
}

}  // namespace
}  // namespace dredger
