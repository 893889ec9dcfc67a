#include <gmock/gmock.h>

#include "formats/compound_file.h"
#include "preview/decoders.h"
#include "repairing/mended.h"
#include "repairing/office/pdf_objects.h"
#include "repairing/office/salvage.h"

namespace dredger::test {
namespace {

using repairing::Outcome;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;

std::map<std::string, std::string> streams_of(const Bytes& bytes) {
    const MemoryMedium medium(bytes);
    Budget budget;
    Reader reader(medium, budget);
    std::map<std::string, std::string> streams;
    formats::take_compound_apart(reader, [&](Part&& part) {
        Budget for_bytes;
        Reader content(medium, for_bytes);
        streams[part.name] = bytes_of(content, part, 1 << 20);
        return true;
    });
    return streams;
}

TEST(CompoundFiles, WithoutAHeaderGetOneFromTheirSectors) {
    for (const char* name : {"doc-office.doc", "xls-office.xls", "ppt-office.ppt"}) {
        const MendedBytes mended = mend(name, zeroed(sample(name), 0, 512));
        EXPECT_EQ(mended.outcome(), Outcome::mended) << name << ": " << mended.said();
        EXPECT_EQ(streams_of(mended.result), streams_of(sample(name))) << name;
    }
}

TEST(CompoundFiles, ThatEndTooEarlyAreClosed) {
    const Bytes& whole = sample("ppt-office.ppt");
    const MendedBytes mended = mend("talk.ppt", cut(whole, whole.size() * 9 / 10));
    EXPECT_NE(mended.outcome(), Outcome::whole);
    EXPECT_NE(mended.outcome(), Outcome::mended);
}

TEST(CompoundFiles, OfWhichNoStructureIsLeftTheTextIsSaved) {
    const Bytes& whole = sample("ppt-office.ppt");
    const MendedBytes mended = mend("talk.ppt", cut(whole, whole.size() / 2));
    EXPECT_EQ(mended.outcome(), Outcome::beyond);
    ASSERT_TRUE(mended.beside.contains(" (text).txt")) << mended.said();
    EXPECT_TRUE(holds(mended.beside.at(" (text).txt"), "Fog until noon, then a light wind from the west."));
}

// Where a part's data stands in a package, with its header, and how long both are.
Extent part_in(const Bytes& package, const std::string& name) {
    const std::size_t at = place_of(package, name) - 30;
    const std::size_t next = place_of(package, "PK\3\4", at + 4);
    return {at, std::min(next, place_of(package, "PK\1\2", at + 4)) - at};
}

TEST(Packages, APresentationIsMadeOfItsSlides) {
    const Bytes& whole = sample("pptx-office.pptx");
    const Extent lost = part_in(whole, "ppt/presentation.xml");
    const MendedBytes mended = mend(
        "talk.pptx", with_noise(whole, static_cast<std::size_t>(lost.offset), static_cast<std::size_t>(lost.length)));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_THAT(mended.said(), HasSubstr("the list of slides was made anew"));
    EXPECT_TRUE(measured("zip", mended.result).is_whole());
    EXPECT_TRUE(mended.beside.empty());
}

TEST(Packages, WithoutTheirMainPartHaveWhatTheySaySavedBesideThem) {
    const Bytes& whole = sample("odt-office.odt");
    const Extent lost = part_in(whole, "content.xml");
    const MendedBytes mended = mend(
        "diary.odt", with_noise(whole, static_cast<std::size_t>(lost.offset), static_cast<std::size_t>(lost.length)));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_THAT(mended.said(), HasSubstr("its main part is lost"));
    EXPECT_TRUE(mended.beside.contains(" (picture 1).png"));
}

TEST(Packages, TheirTextIsALineAParagraphAndCellsApart) {
    EXPECT_EQ(
        repairing::text_of_xml("<w:d xmlns:w='w'><w:p><w:r><w:t>Fog </w:t></w:r><w:r><w:t>until noon</w:t></w:r></w:p>"
                               "<w:tbl><w:tr><w:tc><w:p>Ledge</w:p></w:tc><w:tc><w:p>Pairs</w:p></w:tc></w:tr>"
                               "<w:tr><w:tc><w:p>3</w:p></w:tc><w:tc><w:p>14</w:p></w:tc></w:tr></w:tbl></w:d>"),
        "Fog until noon\nLedge\tPairs\n3\t14\n");
    EXPECT_EQ(repairing::text_of_xml("<a/>"), "");
}

std::string text_of(const Bytes& pdf) { return preview::text_of_pages(MemoryMedium(pdf), 1 << 16); }

class Documents : public testing::TestWithParam<const char*> {};
INSTANTIATE_TEST_SUITE_P(OfEachWriter, Documents, testing::Values("pdf-office.pdf", "pdf-packed.pdf", "pdf-linear.pdf"),
                         [](const auto& writer) {
                             std::string name = writer.param;
                             return name.replace(3, 1, "_").substr(0, name.find('.'));
                         });

TEST_P(Documents, ThatAreWholeStayWhatTheyAre) {
    const MendedBytes mended = mend(GetParam(), sample(GetParam()));
    EXPECT_EQ(mended.outcome(), Outcome::whole) << mended.said();
    EXPECT_EQ(mended.result, sample(GetParam()));
}

TEST_P(Documents, WithoutTheirTableAreMadeOfTheirObjects) {
    const Bytes& whole = sample(GetParam());
    // The end of the file, with the trailer or the stream that stands for it.
    Bytes damaged = zeroed(whole, whole.size() - 200, 200);
    damaged = with_noise_inserted(damaged, 0, 300);
    const MendedBytes mended = mend(GetParam(), damaged);
    EXPECT_TRUE(measured("pdf", mended.result).is_whole()) << mended.said();
    EXPECT_EQ(text_of(mended.result), text_of(whole));
}

TEST(Documents, KeepThePagesThatStand) {
    const std::string objects =
        "%PDF-1.4\n1 0 obj\n<< /Type /Catalog /Pages 2 0 R >>\nendobj\n"
        "2 0 obj\n<< /Type /Pages /Count 2 /Kids [3 0 R 4 0 R] /MediaBox [0 0 300 400] >>\nendobj\n"
        "3 0 obj\n<< /Type /Page /Parent 2 0 R >>\nendobj\n"
        "4 0 obj\n<< /Type /Pag";
    const MendedBytes mended = mend("report.pdf", bytes_of(objects));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_EQ(mended.done.kept, 1U);
    EXPECT_EQ(mended.done.of, 2U);
    EXPECT_TRUE(measured("pdf", mended.result).is_whole());
    EXPECT_TRUE(holds(mended.result, "/MediaBox [0 0 300 400]"));
}

repairing::PdfObjects objects_of(const std::string& text) {
    const MemoryMedium medium(bytes_of(text));
    Budget budget;
    Reader reader(medium, budget);
    return repairing::find_pdf_objects(reader);
}

TEST(PdfObjects, AStreamEndsAtItsKeywordWhereItsLengthIsWrong) {
    const auto found = objects_of("5 0 obj << /Length 999 >> stream\nterns\nendstream endobj 6 0 obj 12 endobj");
    ASSERT_EQ(found.objects.size(), 2U);
    EXPECT_EQ(found.objects.at(5).data.length, 5U);
    EXPECT_EQ(found.repaired_lengths, 1U);
}

TEST(PdfObjects, OfSeveralOfANumberTheLastOneCounts) {
    const auto found = objects_of("5 0 obj (old) endobj\n5 0 obj (new) endobj");
    EXPECT_THAT(found.objects.at(5).body, HasSubstr("new"));
}

TEST(PdfObjects, ValuesAreThoseOfTheDictionaryItself) {
    const std::string dictionary =
        "<< /Kind << /Length 3 >> /Text (a \\) << /Length 4 >>) % /Length 5\n /Length 7 0 R /Next 8 >>";
    EXPECT_EQ(repairing::pdf_value(dictionary, "Length"), "7 0 R");
    EXPECT_EQ(repairing::pdf_value(dictionary, "Next"), "8");
    EXPECT_THAT(repairing::pdf_value(dictionary, "None"), IsEmpty());
    EXPECT_THAT(repairing::pdf_references("[ 3 0 R 14 0 R 5 ]"), ElementsAre(3U, 14U));
}

}  // namespace
}  // namespace dredger::test
