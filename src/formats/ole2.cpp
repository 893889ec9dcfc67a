// Compound files ([MS-CFB]) and what is kept in them, told apart by their streams: Word, Excel and PowerPoint up to
// 2003, Outlook messages ([MS-OXMSG]), Windows Installer packages.
#include <algorithm>

#include "base/text.h"
#include "formats/compound_file.h"
#include "formats/dates.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

std::string text_in(ByteView bytes, unsigned code_page) {
    constexpr unsigned kUtf8 = 65001, kUtf16 = 1200;
    std::string text = code_page == kUtf16 ? utf16le_to_utf8(bytes.bytes())
                       : code_page == kUtf8
                           ? std::string(reinterpret_cast<const char*>(bytes.bytes().data()), bytes.size())
                           : code_page_to_utf8(bytes.bytes(), CodePage::windows1252);
    text.resize(std::min(text.find('\0'), text.size()));
    return text;
}

// The property set of a document's summary ([MS-OLEPS] 2.21, 2.18; [MS-OSHARED] 2.3.3.2.1).
void take_summary(ByteView set, Description& said) {
    enum Property : std::uint32_t { kCodePage = 1, kTitle = 2, kCreated = 12, kLastSaved = 13 };
    enum Type : std::uint32_t { kInteger16 = 2, kText = 0x1E, kWideText = 0x1F, kTime = 0x40 };
    constexpr std::uint32_t kMaxProperties = 64;
    const std::size_t section = set.u32le(44).value_or(0);
    const std::uint32_t count = std::min(set.u32le(section + 4).value_or(0), kMaxProperties);
    unsigned code_page = 1252;
    std::optional<FileTime> created, saved;
    ByteView title;
    std::uint32_t title_type = 0;
    for (std::uint32_t n = 0; n < count; ++n) {
        const auto id = set.u32le(section + 8 + 8 * std::size_t{n}), at = set.u32le(section + 12 + 8 * std::size_t{n});
        if (!id || !at) return;
        const std::size_t value = section + *at;
        const std::uint32_t type = set.u32le(value).value_or(0);
        if (*id == kCodePage && type == kInteger16) code_page = set.u16le(value + 4).value_or(0);
        if (*id == kCreated && type == kTime) created = windows_time(set.u64le(value + 4).value_or(0));
        if (*id == kLastSaved && type == kTime) saved = windows_time(set.u64le(value + 4).value_or(0));
        if (*id == kTitle && (type == kText || type == kWideText)) {
            const std::size_t size = std::size_t{set.u32le(value + 4).value_or(0)} * (type == kWideText ? 2 : 1);
            title = set.slice(value + 8, size).value_or(ByteView());
            title_type = type;
        }
    }
    said.title = printable(text_in(title, title_type == kWideText ? 1200 : code_page));
    said.date = saved ? saved : created;
}

// A message's subject, and when it was sent or came ([MS-OXMSG] 2.4).
void take_message(const CompoundFile& file, Description& said) {
    constexpr std::uint32_t kSent = 0x00390040, kCame = 0x0E060040;
    constexpr std::size_t kHeader = 32, kEntry = 16, kMax = 64 << 10;
    const std::string subject = file.message_property("0037", kMax);
    said.title = printable(subject.substr(0, subject.find('\0')));
    const std::string properties = file.stream("__properties_version1.0", kMax);
    for (std::size_t at = kHeader; at + kEntry <= properties.size(); at += kEntry) {
        const std::uint32_t tag = *view_of(properties).u32le(at);
        if (tag == kSent || (tag == kCame && !said.date)) said.date = windows_time(*view_of(properties).u64le(at + 8));
    }
}

Description describe_ole2(Reader& content, std::uint64_t) {
    constexpr std::size_t kMaxSummary = 64 << 10;  // bytes
    Description said;
    const CompoundFile file(content);
    const std::string summary = file.stream("\x05SummaryInformation", kMaxSummary);
    take_summary(view_of(summary), said);
    if (said.title.empty() && !said.date) take_message(file, said);
    return said;
}

}  // namespace

const std::vector<Format>& ole2() {
    static const std::vector<std::vector<Signature>> mark = {{{0, CompoundFile::kMark}}};
    static const std::vector<Format> family = {
        {.name = "ole2",
         .kind = Kind::document,
         .extensions = {"ole"},
         .signatures = mark,
         .measure = measure_by<take_compound_apart>,
         .take_apart = take_compound_apart,
         .gaps = gaps_of_compound,
         .describe = describe_ole2,
         .ending = "the last sector in use",
         .checked = "every chain, and known streams"},
        {.name = "doc", .kind = Kind::document, .extensions = {"doc", "dot"}, .signatures = mark, .told_by = "ole2"},
        {.name = "xls", .kind = Kind::document, .extensions = {"xls", "xlt"}, .signatures = mark, .told_by = "ole2"},
        {.name = "ppt", .kind = Kind::document, .extensions = {"ppt", "pps"}, .signatures = mark, .told_by = "ole2"},
        {.name = "vsd",
         .kind = Kind::document,
         .extensions = {"vsd", "vss", "vst"},
         .signatures = mark,
         .told_by = "ole2"},
        {.name = "pub", .kind = Kind::document, .extensions = {"pub"}, .signatures = mark, .told_by = "ole2"},
        {.name = "wps", .kind = Kind::document, .extensions = {"wps"}, .signatures = mark, .told_by = "ole2"},
        {.name = "hwp", .kind = Kind::document, .extensions = {"hwp"}, .signatures = mark, .told_by = "ole2"},
        {.name = "mpp", .kind = Kind::document, .extensions = {"mpp", "mpt"}, .signatures = mark, .told_by = "ole2"},
        {.name = "msg", .kind = Kind::mail, .extensions = {"msg"}, .signatures = mark, .told_by = "ole2"},
        {.name = "msi", .kind = Kind::other, .extensions = {"msi"}, .signatures = mark, .told_by = "ole2"},
    };
    return family;
}

}  // namespace dredger::formats
