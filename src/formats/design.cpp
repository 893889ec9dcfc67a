// Drawings of design programs: InDesign (XMP Specification, part 3, 1.1.5: databases of pages, objects behind them) and
// DWG ("Open Design Specification for .dwg files", 3 and 4: AutoCAD R13 to 2000, and 2004 and later).
#include <algorithm>
#include <array>

#include "formats/families.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kPage = 4096;

// The master page with the higher number counts.
Measured measure_indesign(Reader& content) {
    constexpr std::string_view kObject = "\xDE\x39\x39\x79\x51\x88\x4B\x6C\x8E\x63\xEE\xF8\xAE\xE0\xDD\x38"sv;
    constexpr std::string_view kBehindObject = "\xFD\xCE\xDB\x70\xF7\x86\x4B\x4F\xA4\xD3\xC7\x28\xB3\x41\x71\x06"sv;
    constexpr std::uint64_t kMark = 32;
    const std::uint64_t master = content.u64le(kPage + 264) > content.u64le(264) ? kPage : 0;
    const std::uint64_t pages = content.u32le(master + 280);
    if (pages < 2) return nonsense();
    std::uint64_t at = pages * kPage;
    if (!content.holds(0, at)) return sized(content, at, Proof::length);
    while (content.has(at, kObject)) {
        const std::uint64_t little = at + kMark + content.u32le(at + 24), big = at + kMark + content.u32be(at + 24);
        const bool is_little = content.has(little, kBehindObject);
        if (!is_little && !content.has(big, kBehindObject)) return broken(at, "an object does not end");
        at = (is_little ? little : big) + kMark;
        if (!content.holds(0, at)) return broken(content.size(), "its end is missing", at);
    }
    const std::uint64_t filled = (at + kPage - 1) / kPage * kPage;
    return whole(content.holds(0, filled) && content.is_zeros(at, filled) ? filled : at, Proof::chain);
}

// Sections, whose places the header tells; behind them stands a second header, and then the preview.
Measured measure_early_dwg(Reader& content) {
    constexpr std::string_view kPreview = "\x1F\x25\x6D\x07\xD4\x36\x28\x28\x9D\x57\xCA\x3F\x9D\x44\x10\x2B"sv;
    constexpr std::string_view kPreviewEnd = "\xE0\xDA\x92\xF8\x2B\xC9\xD7\xD7\x62\xA8\x35\xC0\x62\xBB\xEF\xD4"sv;
    constexpr std::string_view kSecondHeaderEnd = "\x2B\x84\xDE\x31\xD7\x6C\x60\x40\xAC\xDB\xBF\xF6\xED\xC3\x55\xFE"sv;
    constexpr std::string_view kHeaderEnd = "\x95\xA0\x4E\x28\x99\x82\x1A\xE5\x5E\x41\xE0\x5F\x9D\x3A\x4D\x00"sv;
    constexpr std::uint64_t kMaxSecondHeader = 1 << 20, kCrc = 2;
    const std::uint64_t preview = content.u32le(0x0D), sections = content.u32le(0x15);
    if (sections < 3 || sections > 6 || !content.has(0x19 + 9 * sections + kCrc, kHeaderEnd)) return nonsense();
    std::uint64_t end = 0;
    for (std::uint64_t i = 0; i < sections; ++i)
        end = std::max(end, std::uint64_t{content.u32le(0x19 + 9 * i + 1)} + content.u32le(0x19 + 9 * i + 5));
    if (!content.holds(0, end)) return sized(content, end, Proof::length);
    if (const auto second = content.find(kSecondHeaderEnd, end, std::min(content.size(), end + kMaxSecondHeader)))
        end = *second + kSecondHeaderEnd.size();
    if (preview >= end && content.has(preview, kPreview)) {
        const std::uint64_t behind = preview + kPreview.size() + 4 + content.u32le(preview + kPreview.size());
        if (!content.has(behind, kPreviewEnd)) return broken(end, "its preview does not end", behind);
        end = behind + kPreviewEnd.size();
    }
    return whole(end, Proof::chain);
}

// What the header hides behind a row of numbers that everybody knows. A copy of it ends the file.
Measured measure_dwg(Reader& content) {
    constexpr std::uint64_t kHidden = 0x80, kBehindHeader = 0x100, kMaxFile = std::uint64_t{1} << 40;
    constexpr std::size_t kLength = 0x6C, kTail = 0x14;
    if (content.has(0, "AC1012") || content.has(0, "AC1014") || content.has(0, "AC1015"))
        return measure_early_dwg(content);
    std::array<std::byte, kLength> plain{};
    std::uint32_t row = 1;
    for (std::size_t i = 0; i < kLength; ++i) {
        row = row * 0x343FD + 0x269EC3;
        plain[i] = static_cast<std::byte>(content.u8(kHidden + i) ^ (row >> 16 & 0xFFU));
    }
    const ByteView header(plain);
    if (!header.has(0, "AcFssFcAJMB\0"sv)) return nonsense();
    const std::uint64_t pages_end = header.u64le(0x2C).value_or(0), second = header.u64le(0x34).value_or(0);
    if (pages_end > kMaxFile || second > kMaxFile) return nonsense();
    const std::string copy = content.text(kHidden, kLength);
    for (const std::uint64_t at : {second, second + kBehindHeader})
        if (at >= kBehindHeader && content.has(at, copy)) return sized(content, at + kLength + kTail, Proof::chain);
    const std::uint64_t end = pages_end + kBehindHeader;
    return content.holds(0, end) ? open_ended(end, Proof::length) : sized(content, end, Proof::length);
}

}  // namespace

const std::vector<Format>& design() {
    static const std::vector<Format> family = {
        {.name = "indd",
         .kind = Kind::document,
         .extensions = {"indd", "indt", "indl"},
         .signatures = {{{0, "\x06\x06\xED\xF5\xD8\x1D\x46\xE5\xBD\x31\xEF\xE7\xFE\x74\xB7\x1D"sv}}},
         .measure = measure_indesign,
         .ending = "the last object behind its pages",
         .checked = "the chain of objects"},
        {.name = "dwg",
         .kind = Kind::picture,
         .extensions = {"dwg"},
         .signatures = {{{0, "AC1012"sv}},
                        {{0, "AC1014"sv}},
                        {{0, "AC1015"sv}},
                        {{0, "AC1018"sv}},
                        {{0, "AC1024"sv}},
                        {{0, "AC1027"sv}},
                        {{0, "AC1032"sv}}},
         .measure = measure_dwg,
         .ending = "its second header, or the preview behind it",
         .checked = "the list of sections"},
    };
    return family;
}

}  // namespace dredger::formats
