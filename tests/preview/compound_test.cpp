// Text of documents in compound files, laid out by hand after [MS-CFB], [MS-DOC], [MS-PPT] and [MS-OXMSG].
#include "preview/compound.h"

#include <cstring>
#include <gmock/gmock.h>

#include "support/compound.h"

namespace dredger::preview {
namespace {

using test::Compound;
using testing::AllOf;
using testing::HasSubstr;

std::string text_of(const std::vector<std::byte>& bytes, std::size_t most = 1000) {
    const test::MemoryMedium medium(bytes);
    Budget budget;
    Reader reader(medium, budget);
    return compound_text(reader, most);
}

Compound word() {
    std::string document(4096, '\0'), table(4096, '\0');
    Compound::put(document, 0, 0xA5EC, 2);
    Compound::put(document, 10, 0x0200, 2);  // 1Table
    Compound::put(document, 0x01A2, 0, 4);
    Compound::put(document, 0x01A6, 5 + 12 + 16, 4);
    const std::string narrow = "Ledge 4:\rtwo chicks";
    const std::u16string wide = u" – Küken";
    std::memcpy(document.data() + 1024, narrow.data(), narrow.size());
    std::memcpy(document.data() + 2048, wide.data(), wide.size() * 2);
    Compound::put(table, 0, 2, 1);
    Compound::put(table, 1, 12 + 16, 4);
    Compound::put(table, 5, 0, 4);
    Compound::put(table, 9, narrow.size(), 4);
    Compound::put(table, 13, narrow.size() + wide.size(), 4);
    Compound::put(table, 17 + 2, 0x40000000 | 1024 * 2, 4);
    Compound::put(table, 25 + 2, 2048, 4);
    Compound file;
    file.add(u"WordDocument", document);
    file.add(u"1Table", table);
    return file;
}

TEST(CompoundText, ReadsThePiecesOfAWordDocument) {
    EXPECT_EQ(text_of(word().bytes()), "Ledge 4:\ntwo chicks – Küken");
    EXPECT_EQ(text_of(word().bytes(), 8), "Ledge 4:");
}

TEST(CompoundText, ReadsTheTextOfSlidesInTheirContainers) {
    const std::u16string wide = u"Season 2026";
    std::string atom(8, '\0'), container(8, '\0');
    Compound::put(atom, 2, 0x0FA0, 2);
    Compound::put(atom, 4, wide.size() * 2, 4);
    atom.append(reinterpret_cast<const char*>(wide.data()), wide.size() * 2);
    Compound::put(container, 0, 0x000F, 2);
    Compound::put(container, 2, 1000, 2);
    Compound::put(container, 4, atom.size(), 4);
    Compound file;
    file.add(u"PowerPoint Document", container + atom);
    EXPECT_THAT(text_of(file.bytes()), HasSubstr("Season 2026"));
}

TEST(CompoundText, ReadsTheSubjectOfAMessage) {
    Compound file;
    const std::u16string subject = u"Boat on Friday";
    std::string bytes(reinterpret_cast<const char*>(subject.data()), subject.size() * 2);
    file.add(u"__substg1.0_0037001F", bytes);
    EXPECT_THAT(text_of(file.bytes()), HasSubstr("Subject: Boat on Friday"));
}

TEST(CompoundText, OfOfficeProgramsIsRead) {
    const auto samples = test::samples();
    EXPECT_THAT(text_of(samples.at("doc-office.doc")), HasSubstr("Fog until noon, then a light wind from the west."));
    EXPECT_THAT(text_of(samples.at("xls-office.xls")), AllOf(HasSubstr("SK0"), HasSubstr("SK39")));
    EXPECT_THAT(text_of(samples.at("ppt-office.ppt")), HasSubstr("Fog until noon"));
}

TEST(CompoundText, DamageNeverLeadsAstray) {
    const auto whole = word().bytes();
    for (std::size_t at = 0; at < 3 * Compound::kSector; ++at)
        for (const int value : {0, 0x7F, 0xFF}) {
            auto bytes = whole;
            bytes[at] = static_cast<std::byte>(value);
            EXPECT_LE(text_of(bytes).size(), 1000U);
        }
    for (std::size_t length = 0; length < whole.size(); length += 97)
        text_of({whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(length)});
}

}  // namespace
}  // namespace dredger::preview
