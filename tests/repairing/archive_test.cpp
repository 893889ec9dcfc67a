#include <gmock/gmock.h>

#include "formats/part.h"
#include "repairing/mended.h"

namespace dredger::test {
namespace {

using namespace std::string_view_literals;
using repairing::Outcome;
using testing::HasSubstr;

// The entries of an archive that is whole, as its format's measurer unpacks them.
std::map<std::string, std::string> entries_of(const Bytes& bytes) {
    const MemoryMedium medium(bytes);
    Budget budget;
    Reader reader(medium, budget);
    std::map<std::string, std::string> entries;
    (void)format_named("zip")->take_apart(reader, [&](Part&& part) {
        Budget for_bytes;
        Reader content(medium, for_bytes);
        if (part.check != Part::Check::wrong) entries[part.name] = bytes_of(content, part, 1 << 20);
        return true;
    });
    return entries;
}

class Archives : public testing::TestWithParam<const char*> {};

INSTANTIATE_TEST_SUITE_P(OfEachWriter, Archives,
                         testing::Values("zip-plain.zip", "zip-described.zip", "docx-office.docx", "odt-office.odt"),
                         [](const auto& writer) {
                             std::string name = writer.param;
                             return name.replace(name.find('-'), 1, "_").substr(0, name.find('.'));
                         });

TEST_P(Archives, ThatAreWholeStayWhatTheyAre) {
    const MendedBytes mended = mend(GetParam(), sample(GetParam()));
    EXPECT_EQ(mended.outcome(), Outcome::whole) << mended.said();
    EXPECT_EQ(mended.result, sample(GetParam()));
}

TEST_P(Archives, WithoutADirectoryGetOne) {
    const Bytes& whole = sample(GetParam());
    const MendedBytes mended = mend(GetParam(), cut(whole, place_of(whole, "PK\1\2"sv)));
    EXPECT_EQ(mended.outcome(), Outcome::mended) << mended.said();
    EXPECT_TRUE(measured("zip", mended.result).is_whole());
    EXPECT_EQ(entries_of(mended.result), entries_of(whole));
}

TEST_P(Archives, WithoutAHeaderAreReachedFromTheDirectory) {
    const Bytes& whole = sample(GetParam());
    const std::size_t second = place_of(whole, "PK\3\4"sv, 8);
    const std::size_t name = std::to_integer<std::size_t>(whole[second + 26]);
    const MendedBytes mended = mend(GetParam(), with_noise(whole, second, 30 + name));
    EXPECT_EQ(mended.outcome(), Outcome::mended) << mended.said();
    EXPECT_EQ(entries_of(mended.result), entries_of(whole));
}

TEST_P(Archives, BehindAndBeforeSomethingForeignAreFound) {
    const Bytes& whole = sample(GetParam());
    Bytes between = with_noise_inserted(whole, 0, 1337);
    between.resize(between.size() + 5000, std::byte{'n'});
    const MendedBytes mended = mend(GetParam(), between);
    EXPECT_EQ(mended.outcome(), Outcome::mended) << mended.said();
    EXPECT_EQ(entries_of(mended.result), entries_of(whole));
}

TEST_P(Archives, WithWrongNumbersInAHeaderAreReadByTheirData) {
    const Bytes& whole = sample(GetParam());
    const std::size_t directory = place_of(whole, "PK\1\2"sv);
    const MendedBytes mended = mend(GetParam(), with_noise(whole, directory + 16, 12));
    EXPECT_EQ(mended.outcome(), Outcome::mended) << mended.said();
    EXPECT_EQ(entries_of(mended.result), entries_of(whole));
}

TEST_P(Archives, ThatEndTooEarlyKeepWhatStandsWithItsName) {
    const Bytes& whole = sample(GetParam());
    const MendedBytes mended = mend(GetParam(), cut(whole, whole.size() * 6 / 10));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_LT(mended.done.kept, mended.done.of);
    const auto all = entries_of(whole);
    for (const auto& [name, bytes] : entries_of(mended.result))
        // The lists of parts are made anew.
        EXPECT_TRUE(!all.contains(name) || name.find("rels") != std::string::npos || name.front() == '[' ||
                    all.at(name).starts_with(bytes.substr(0, bytes.size() / 2)))
            << name;
}

TEST(Archives, DamageInOneEntryCostsNoOther) {
    const Bytes& whole = sample("zip-plain.zip");
    const auto all = entries_of(whole);
    const std::size_t data = place_of(whole, "PK\3\4"sv, 8);
    const MendedBytes mended = mend("zip-plain.zip", with_noise(whole, data + 60, 16));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_EQ(mended.done.kept + 1, mended.done.of);
    std::size_t equal = 0;
    for (const auto& [name, bytes] : entries_of(mended.result)) equal += all.at(name) == bytes ? 1 : 0;
    EXPECT_EQ(equal, all.size() - 1);
}

TEST(Archives, AKnownHoleInADocumentIsToldAndClosed) {
    const Bytes& whole = sample("docx-office.docx");
    const std::size_t main = place_of(whole, "word/document.xml");
    const MendedBytes mended = mend("letter.docx", zeroed(whole, main + 560, 40), {}, {{main + 560, 40}});
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_THAT(mended.said(), HasSubstr("word/document.xml ends behind its first"));
    const std::string text = entries_of(mended.result)["word/document.xml"];
    EXPECT_TRUE(text.ends_with("</w:document>")) << text;
}

TEST(Archives, ADocumentWithoutItsListsGetsThemAnew) {
    const Bytes& whole = sample("docx-office.docx");
    // The parts list and the relations are the entries that many programs write first or last.
    const auto all = entries_of(whole);
    Bytes damaged = whole;
    for (std::size_t at = place_of(damaged, "PK\3\4"sv); at != std::string::npos;
         at = place_of(damaged, "PK\3\4"sv, at + 4))
        if (place_of(damaged, "[Content_Types].xml", at) == at + 30 || place_of(damaged, "_rels/.rels", at) == at + 30)
            damaged = zeroed(damaged, at, 120);
    damaged = cut(damaged, place_of(damaged, "PK\1\2"sv));
    const MendedBytes mended = mend("letter.docx", damaged);
    const auto made = entries_of(mended.result);
    EXPECT_THAT(mended.said(), HasSubstr("the list of parts was made anew"));
    EXPECT_THAT(made.at("[Content_Types].xml"), HasSubstr("wordprocessingml.document.main+xml"));
    EXPECT_THAT(made.at("_rels/.rels"), HasSubstr("Target=\"word/document.xml\""));
    EXPECT_EQ(made.at("word/document.xml"), all.at("word/document.xml"));
}

TEST(Archives, AFileOfNoArchiveIsBeyond) {
    EXPECT_EQ(mend("notes.zip", with_noise(Bytes(4096), 0, 4096)).outcome(), Outcome::beyond);
}

}  // namespace
}  // namespace dredger::test
