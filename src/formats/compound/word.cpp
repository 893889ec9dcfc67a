#include "formats/compound/drawing_records.h"
#include "formats/compound/known_streams.h"

namespace dredger::formats {
namespace {

// Word from 1997 on: the head tells of pieces of text, and of pages of formatting of 512 bytes that tell in ascending
// order what they are about ([MS-DOC] 2.5, 2.8.35, 2.9.177, 2.8.5, 2.9.33).
class WordText {
  public:
    WordText(const Look& document, const Look* table) : document_(document), table_(table) {}

    void look() {
        constexpr unsigned kMark = 0xA5EC, kFarEast = 0xA6, kEncrypted = 0x0100, kLeastVersion = 0xC1;
        const BlockStream& head = document_.stream();
        if (!document_.expect(0, (head.u8(1) == kMark >> 8 || head.u8(1) == kFarEast) && head.u8(0) >= 0x97)) return;
        if ((head.u16(10) & kEncrypted) != 0) return;
        if (head.u16(2) < kLeastVersion) return text_of_1995();
        if (head.u16(0) != kMark || table_ == nullptr) return;
        pages(kCharacterPages, kMostOfCharacters);
        pages(kParagraphPages, kMostOfParagraphs);
        text();
        styles();
        fonts();
        drawings();
    }

  private:
    // Places in the head.
    static constexpr std::uint64_t kCharacterPages = 0xFA, kParagraphPages = 0x102, kPieces = 0x1A2;
    static constexpr std::uint64_t kStyles = 0xA2, kFonts = 0x112, kDrawings = 0x22A;
    // Marks of cells, fields, notes, pictures, breaks of lines, pages and columns, hyphens.
    static constexpr std::uint32_t kAllowed = 0x0038'7FBEU | 1U << 30 | 1U << 31 | 1U << 6;
    static constexpr unsigned kMostOfCharacters = 0x65, kMostOfParagraphs = 0x1D;

    void pages(std::uint64_t told_at, unsigned most) {
        constexpr std::uint64_t kPage = 512;
        const BlockStream& document = document_.stream();
        const BlockStream& table = table_->stream();
        const std::uint64_t list = document.u32(told_at), length = document.u32(told_at + 4);
        if (length < 12 || list + length > table.size()) return;
        const std::uint64_t count = (length - 4) / 8;
        for (std::uint64_t n = 0; n < count && table.ok(); ++n) {
            const std::uint32_t from = table.u32(list + 4 * n), to = table.u32(list + 4 * n + 4);
            const std::uint64_t entry = list + 4 * (count + 1) + 4 * n;
            const std::uint64_t page = (table.u32(entry) & 0x3FFFFFU) * kPage;
            if (!table_->expect(list + 4 * n, from < to)) return;
            if (!table_->expect(entry, page + kPage <= document.size())) return;
            const unsigned runs = document.u8(page + kPage - 1);
            bool ascends = runs >= 1 && runs <= most;
            for (unsigned i = 0; i < runs && ascends; ++i)
                ascends = document.u32(page + 4 * i) < document.u32(page + 4 * i + 4);
            if (!document_.expect(page, ascends)) return;
        }
    }

    void text() {
        constexpr unsigned kFormats = 1, kText = 2;
        constexpr std::uint64_t kPiece = 8;
        const BlockStream& document = document_.stream();
        const BlockStream& table = table_->stream();
        std::uint64_t at = document.u32(kPieces);
        const std::uint64_t end = std::min(at + document.u32(kPieces + 4), table.there());
        while (at < end && table.u8(at) == kFormats && table.ok()) at += 3 + table.u16(at + 1);
        if (at >= end || !table_->expect(at, table.u8(at) == kText)) return;
        const std::uint64_t length = table.u32(at + 1);
        at += 5;
        if (length < 4 + 4 + kPiece || at + length > end) return;
        const std::uint64_t count = (length - 4) / (4 + kPiece);
        for (std::uint64_t n = 0; n < count && table.ok(); ++n) {
            constexpr std::uint32_t kOneByte = 1U << 30;
            const std::uint64_t entry = at + 4 * (count + 1) + kPiece * n;
            const std::uint32_t first = table.u32(at + 4 * n), next = table.u32(at + 4 * n + 4);
            const std::uint32_t place = table.u32(entry + 2);
            const bool is_wide = (place & kOneByte) == 0;
            const std::uint64_t from = is_wide ? place : (place & ~kOneByte) / 2;
            const std::uint64_t to = from + std::uint64_t{next - first} * (is_wide ? 2 : 1);
            if (!table_->expect(at + 4 * n, first < next)) return;
            if (!table_->expect(entry, to <= document.size())) return;
            look_at_text(document_, from, to, is_wide, kAllowed);
        }
    }

    // In one piece, unless it was saved in a hurry.
    void text_of_1995() {
        constexpr unsigned kInPieces = 0x0004;
        const BlockStream& head = document_.stream();
        if ((head.u16(10) & kInPieces) == 0) look_at_text(document_, head.u32(0x18), head.u32(0x1C), false, kAllowed);
    }

    // A list of which each item has its length in front, as a number of `width` bytes.
    void items(std::uint64_t at, std::uint64_t end, unsigned count, unsigned width) {
        const BlockStream& table = table_->stream();
        for (unsigned n = 0; n < count && at + width <= end && table.ok(); ++n) {
            const std::uint64_t length = width == 1 ? table.u8(at) : table.u16(at) + table.u16(at) % 2;
            const std::uint64_t next = at + width + length;
            // Of the last one a part may be missing.
            if (!table_->expect(at, next <= end || n + 1 == count)) return;
            at = next;
        }
    }
    void styles() {
        const BlockStream& table = table_->stream();
        const std::uint64_t at = document_.stream().u32(kStyles), length = document_.stream().u32(kStyles + 4);
        if (length < 4 || at + length > table.there()) return;
        items(at + 2 + table.u16(at), at + length, table.u16(at + 2), 2);
    }
    void fonts() {
        const BlockStream& table = table_->stream();
        const std::uint64_t at = document_.stream().u32(kFonts), length = document_.stream().u32(kFonts + 4);
        if (length < 4 || at + length > table.there() || table.u16(at) == 0xFFFF) return;
        items(at + 4, at + length, table.u16(at), 1);
    }

    // Records of all pictures, and of where they lie in the document; then those of each part of it.
    void drawings() {
        const BlockStream& table = table_->stream();
        std::uint64_t at = document_.stream().u32(kDrawings);
        const std::uint64_t end = at + document_.stream().u32(kDrawings + 4);
        if (end > table.there()) return;
        DrawingRecords records(*table_);
        while (at + DrawingRecords::kHead <= end && table.ok()) {
            const std::uint64_t next = at + DrawingRecords::kHead + table.u32(at + 4);
            if (next > end || !records.walk(at, next)) return;
            at = next + 1;  // a byte tells which part
        }
        for (const std::uint64_t place : records.kept_elsewhere())
            if (place != 0) DrawingRecords::look_at_picture(document_, place);
    }

    const Look& document_;
    const Look* table_;
};

}  // namespace

bool uses_second_table(const BlockStream& word_document) { return (word_document.u16(10) & 0x0200U) != 0; }

void look_at_word_text(const Look& document, const Look* table) { WordText(document, table).look(); }

// Each with a header in front, which some have the name of a file behind ([MS-DOC] 2.9.192).
void look_at_word_pictures(const Look& look) {
    constexpr std::uint64_t kHeader = 0x44;
    constexpr unsigned kShape = 0x64, kShapeOfFile = 0x66;
    const BlockStream& stream = look.stream();
    for (std::uint64_t at = 0; at + kHeader <= stream.there() && stream.ok();) {
        const std::uint32_t length = stream.u32(at);
        // Other things may lie in between.
        if (stream.u16(at + 4) != kHeader || length < kHeader) return;
        if (!look.expect(at, at + length <= stream.size())) return;
        const unsigned kind = stream.u16(at + 6);
        std::uint64_t from = at + kHeader;
        if (kind == kShapeOfFile) from += 1 + std::uint64_t{stream.u8(from)};
        if ((kind == kShape || kind == kShapeOfFile) && !DrawingRecords(look).walk(from, at + length)) return;
        at += length;
    }
}

}  // namespace dredger::formats
