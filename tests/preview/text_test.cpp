#include "preview/text.h"

#include <gmock/gmock.h>

#include "support/support.h"

namespace dredger::preview {
namespace {

using test::MemoryMedium;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

std::string text_of(std::string_view bytes, bool is_markup = false) {
    const MemoryMedium content(test::bytes_of(bytes));
    Budget budget;
    Reader reader(content, budget);
    return plain_text(reader, is_markup);
}

TEST(PlainText, ComesAsUtf8FromWhateverItWasWrittenIn) {
    EXPECT_EQ(text_of("Küken, Nest 4\r\nalle beringt"), "Küken, Nest 4\nalle beringt");
    EXPECT_EQ(text_of("\xEF\xBB\xBFK\xC3\xBCken"), "Küken");
    EXPECT_EQ(text_of("K\xFCken"), "Küken") << "an old code page";
    EXPECT_EQ(text_of(std::string_view("\xFF\xFEK\0\xFC\0", 6)), "Kü");
    EXPECT_EQ(text_of(std::string_view("\xFE\xFF\0K\0\xFC", 6)), "Kü");
    EXPECT_EQ(text_of(""), "");
}

TEST(PlainText, IsCutBetweenCharacters) {
    std::string hens;
    while (hens.size() < 3 * kMaxText) hens += "ü";
    const std::string text = text_of(hens);
    EXPECT_LE(text.size(), kMaxText);
    EXPECT_EQ(text.size() % 2, 0U);
    EXPECT_EQ(text, hens.substr(0, text.size()));
}

TEST(PlainText, LeavesOutTags) {
    const std::string text = text_of(
        "<html><head><title>Log &amp; notes</title><script>let a = '<p>no</p>';</script></head>"
        "<body><p>First <b>line</b></p><p>Second&nbsp;line<br>third &lt;3</p></body></html>",
        true);
    EXPECT_EQ(text, "Log & notes\nFirst line\nSecond line\nthird <3\n");
    EXPECT_EQ(text_of("<p>never ends", true), "never ends");
    EXPECT_EQ(text_of("a < b", true), "a ") << "an open tag hides the rest";
}

TEST(OfficeText, IsThatOfTheDocument) {
    const auto samples = test::samples();
    for (const char* name : {"docx-plain.docx", "odt-plain.odt", "ods-plain.ods", "epub-plain.epub"}) {
        const MemoryMedium content(samples.at(name));
        Budget budget;
        Reader reader(content, budget);
        const std::string text = office_text(reader);
        EXPECT_GT(text.size(), 3U) << name;
        EXPECT_THAT(text, AllOf(Not(HasSubstr("<")), Not(HasSubstr("xmlns")))) << name;
    }
    const MemoryMedium archive(samples.at("zip-plain.zip"));
    Budget budget;
    Reader reader(archive, budget);
    EXPECT_EQ(office_text(reader), "");
}

TEST(ZipEntries, TellWhichAreIntact) {
    for (const char* name : {"zip-plain.zip", "zip-described.zip"}) {
        auto bytes = test::samples().at(name);
        std::vector<Part> before;
        {
            const MemoryMedium content(bytes);
            Budget budget;
            Reader reader(content, budget);
            before = entries_of(reader, 100);
            EXPECT_EQ(entries_of(reader, 1).size(), 1U) << name;
        }
        ASSERT_GE(before.size(), 2U) << name;
        for (const Part& entry : before)
            EXPECT_TRUE(entry.check == Part::Check::right || entry.size == 0) << name << " " << entry.name;
        const auto hit =
            std::find_if(before.begin(), before.end(), [](const Part& e) { return e.where.front().length > 8; });
        ASSERT_NE(hit, before.end()) << name;
        bytes[hit->where.front().offset + hit->where.front().length / 2] ^= std::byte{0xFF};
        const MemoryMedium damaged(std::move(bytes));
        Budget budget;
        Reader reader(damaged, budget);
        const auto after = entries_of(reader, 100);
        const auto same = std::find_if(after.begin(), after.end(), [&](const Part& e) { return e.name == hit->name; });
        ASSERT_NE(same, after.end()) << name;
        EXPECT_EQ(same->check, Part::Check::wrong) << name;
    }
    const MemoryMedium nothing(std::vector<std::byte>(100));
    Budget budget;
    Reader reader(nothing, budget);
    EXPECT_TRUE(entries_of(reader, 10).empty());
}

}  // namespace
}  // namespace dredger::preview
