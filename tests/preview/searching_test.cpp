#include "preview/searching.h"

#include <gmock/gmock.h>

#include "preview/decoders.h"
#include "preview/sections.h"
#include "preview/text.h"
#include "support/support.h"

namespace dredger::preview {
namespace {

using test::MemoryMedium;

bool found(std::vector<std::byte> bytes, const std::string& text, const std::string& format = "") {
    Candidate candidate;
    candidate.format = format;
    return passage_with(MemoryMedium(std::move(bytes)), candidate, text).has_value();
}
bool found(std::string_view bytes, const std::string& text) { return found(test::bytes_of(bytes), text); }

TEST(Contains, FindsTextWhateverItsCase) {
    EXPECT_TRUE(found("Ring SK566403, Alca torda", "alca TORDA"));
    EXPECT_FALSE(found("Ring SK566403, Alca torda", "uria"));
    EXPECT_TRUE(found("Küken", "küken"));
    EXPECT_TRUE(found("end", "end"));
    EXPECT_FALSE(found("en", "end"));
    EXPECT_FALSE(found("", "end"));
}

TEST(Contains, FoldsTheLettersOfEveryScript) {
    EXPECT_TRUE(found("Küken", "KÜKEN"));
    EXPECT_TRUE(found("KÜKEN", "küken"));
    EXPECT_TRUE(found("Большой баклан", "БОЛЬШОЙ"));
    EXPECT_TRUE(found("ΣΊΣΥΦΟΣ", "σίσυφος")) << "with either final sigma";
    EXPECT_TRUE(found(std::string_view("\x11\x04 \0", 4), "б")) << "a capital in UTF-16";
    EXPECT_FALSE(found("Kuken", "küken"));
    EXPECT_FALSE(found("\xC3", "ü"));
}

TEST(Contains, FindsUtf16) {
    EXPECT_TRUE(found(std::string_view("x\0T\0e\0r\0n\0", 10), "tern"));
    EXPECT_TRUE(found(std::string_view("K\0\xFC\0k\0e\0n\0", 10), "Küken"));
    EXPECT_TRUE(found(std::string_view("\xAC\x20 \0", 4), "\xE2\x82\xAC")) << "a euro sign";
    EXPECT_FALSE(found(std::string_view("T\0e\0r\0x\0", 8), "tern"));
}

TEST(Contains, FindsWhatLiesAcrossPieces) {
    constexpr std::size_t kPiece = 1 << 20;
    for (const std::size_t at : {kPiece - 1, kPiece - 4, kPiece, 2 * kPiece - 11, 3 * kPiece - 8}) {
        std::string text(3 * kPiece, '.');
        text.replace(at, 8, "guillemot", 0, 8);
        EXPECT_TRUE(found(text, "guillemo")) << at;
        EXPECT_FALSE(found(text, "guillemot")) << at;
    }
}

Passage passage(std::string_view bytes, const std::string& text) {
    return passage_with(MemoryMedium(test::bytes_of(bytes)), Candidate(), text).value_or(Passage());
}

TEST(Contains, TellsTheLineAndWhatStandsAroundIt) {
    const Passage found = passage("ring;species\nSK1;Alca torda\r\nSK2;Uria aalge, in the bay\n", "AALGE");
    EXPECT_EQ(found.where, "line 3");
    EXPECT_EQ(found.line, "SK2;Uria aalge, in the bay");
    const std::string far = std::string(500, 'x') + " kittiwake " + std::string(500, 'y');
    EXPECT_LE(passage(far, "kittiwake").line.size(), 2 * 48U + 9);
    EXPECT_EQ(passage(std::string_view("\0\0\0tern\0", 8), "tern").where, "byte 3");
    EXPECT_EQ(passage(std::string_view("a\0\n\0K\0\xFC\0k\0e\0n\0 \0"
                                       "4\0",
                                       18),
                      "küken")
                  .line,
              "Küken 4");
    EXPECT_EQ(passage("\x1B[2Jtern", "tern").line.find('\x1B'), std::string::npos) << "steers no terminal";
}

// Sheets, slides and pages are told by the names that people know them by.
TEST(Contains, TellsWhereInADocument) {
    const auto samples = test::samples();
    for (const auto& [name, format, where] :
         {std::tuple("xlsx-plain.xlsx", "xlsx", "sheet "), std::tuple("pptx-plain.pptx", "pptx", "slide ")}) {
        if (!samples.contains(name)) continue;
        const MemoryMedium content(samples.at(name));
        for (const Section& section : sections_of(content, format, 1 << 20))
            EXPECT_TRUE(section.text.empty() || section.where.starts_with(where)) << name << ": " << section.where;
    }
    const MemoryMedium mail(samples.at("mbox-two.mbox"));
    const auto messages = sections_of(mail, "mbox", 1 << 20);
    ASSERT_EQ(messages.size(), 2U);
    EXPECT_EQ(messages[1].where, "message 2");
    EXPECT_TRUE(sections_of(MemoryMedium(test::bytes_of("plain")), "txt", 100).empty());
}

TEST(Contains, LooksIntoDocuments) {
    const auto samples = test::samples();
    for (const char* name : {"docx-plain.docx", "odt-plain.odt"}) {
        const MemoryMedium content(samples.at(name));
        Budget budget;
        Reader reader(content, budget);
        // Some words that stand in the document, but packed.
        const std::string text = office_text(reader);
        const std::size_t from = text.find_first_not_of(" \n\t");
        ASSERT_NE(from, std::string::npos) << name;
        const std::string words = text.substr(from, 12);
        EXPECT_TRUE(found(samples.at(name), words, "docx")) << name << ": " << words;
        EXPECT_FALSE(found(samples.at(name), "kittiwake on the moon", "docx")) << name;
    }
    for (const char* name : {"pdf-linear.pdf", "pdf-packed.pdf"}) {
        const MemoryMedium content(samples.at(name));
        const std::string text = text_of_pages(content, 1 << 20);
        const std::size_t from = text.find_first_not_of(" \n\t\f");
        if (from == std::string::npos) continue;  // a page without text
        EXPECT_TRUE(found(samples.at(name), text.substr(from, 6), "pdf")) << name;
    }
    auto damaged = samples.at("docx-plain.docx");
    damaged.resize(damaged.size() / 2);
    EXPECT_FALSE(found(damaged, "kittiwake on the moon", "docx"));
}

}  // namespace
}  // namespace dredger::preview
