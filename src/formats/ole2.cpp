// Compound files ([MS-CFB]) and what is kept in them, told apart by their streams: Word, Excel and PowerPoint up to
// 2003, Outlook messages ([MS-OXMSG]), Windows Installer packages.
#include <algorithm>
#include <array>

#include "base/text.h"
#include "formats/compound_file.h"
#include "formats/dates.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

constexpr std::uint32_t kFree = 0xFFFFFFFF;
constexpr std::uint32_t kEndOfChain = 0xFFFFFFFE;
constexpr std::uint32_t kMostSectors = 16 << 20;

// Its tables, its directory and its chains, as far as they tell where it ends.
class Structure {
  public:
    Structure(Reader& content, const PartSink& parts) : content_(content), parts_(parts) {}

    Measured measure() {
        const unsigned version = content_.u16le(26);
        const unsigned shift = content_.u16le(30);
        if (content_.u16le(28) != 0xFFFE || !((version == 3 && shift == 9) || (version == 4 && shift == 12)))
            return nonsense();
        sector_ = std::uint64_t{1} << shift;
        const std::uint32_t tables = content_.u32le(44);
        if (tables == 0 || tables > kMostSectors / (sector_ / 4) || !list_tables(tables)) return nonsense();
        if (!has_directory()) return nonsense();
        // Behind the last sector that is in use the file ends, wherever the table goes on.
        std::uint32_t last = 0;
        for (std::size_t t = table_sectors_.size(); t-- > 0 && last == 0;)
            for (std::uint64_t i = sector_ / 4; i-- > 0 && last == 0;)
                if (content_.u32le(place_of(table_sectors_[t]) + 4 * i) != kFree)
                    last = static_cast<std::uint32_t>(t * (sector_ / 4) + i);
        const std::uint64_t end = place_of(last) + sector_;
        if (!content_.holds(0, end)) return broken(content_.size(), "its end is missing", end, format());
        if (!chains_hold())
            return broken(std::min(bad_at_, content_.size()), "a chain of sectors is damaged", end, format());
        return whole(end, Proof::structure, format());
    }

  private:
    std::uint64_t place_of(std::uint32_t sector) const { return (std::uint64_t{sector} + 1) * sector_; }

    bool list_tables(std::uint32_t count) {
        for (unsigned i = 0; i < 109 && table_sectors_.size() < count; ++i)
            table_sectors_.push_back(content_.u32le(76 + 4 * std::uint64_t{i}));
        std::uint32_t more = content_.u32le(68);
        for (std::uint32_t n = 0; table_sectors_.size() < count && n < count; ++n) {
            if (more >= kMostSectors) return false;
            for (std::uint64_t i = 0; i + 1 < sector_ / 4 && table_sectors_.size() < count; ++i)
                table_sectors_.push_back(content_.u32le(place_of(more) + 4 * i));
            more = content_.u32le(place_of(more) + sector_ - 4);
        }
        if (table_sectors_.size() != count) return false;
        // Each sector of the table marks itself as one.
        unsigned right = 0;
        for (const std::uint32_t sector : table_sectors_) {
            if (sector >= kMostSectors) return false;
            right += next(sector) == 0xFFFFFFFD ? 1 : 0;
        }
        return right * 2 > count;
    }

    std::uint32_t next(std::uint32_t sector) {
        const std::uint64_t table = sector / (sector_ / 4);
        if (table >= table_sectors_.size()) return kFree;
        return content_.u32le(place_of(table_sectors_[static_cast<std::size_t>(table)]) + 4 * (sector % (sector_ / 4)));
    }

    // The directory: the root, then the names that tell what the file is.
    bool has_directory() {
        std::uint32_t sector = content_.u32le(48);
        for (std::uint32_t n = 0; sector < kMostSectors && n < 65536; ++n, sector = next(sector)) {
            for (std::uint64_t entry = place_of(sector); entry < place_of(sector) + sector_; entry += 128) {
                const unsigned type = content_.u8(entry + 66);
                const unsigned length = content_.u16le(entry + 64);
                if (type == 0) continue;
                if (length < 2 || length > 64 || type > 5) return false;
                const std::string raw = content_.text(entry, length - 2);
                const std::string name = utf16le_to_utf8(std::as_bytes(std::span(raw)));
                if (names_.empty() && type != 5) return false;
                if (type == 5) root_class_ = content_.u32le(entry + 80);
                if (type == 2)
                    streams_.push_back({content_.u32le(entry + 116),
                                        content_.u64le(entry + 120) & (sector_ == 512 ? 0xFFFFFFFF : ~0ULL), name});
                names_.push_back(name);
            }
        }
        return !names_.empty();
    }

    bool chains_hold() {
        const std::uint64_t cutoff = content_.u32le(56);
        bool hold = true;
        for (const Stream& stream : streams_) {
            // Small streams lie in the one of the root, which has a chain of its own.
            if (stream.size < cutoff) continue;
            Part part{"stream", stream.name, {}, Packing::none, stream.size, Part::Check::right};
            std::uint32_t sector = stream.start;
            std::uint64_t left = stream.size;
            for (; left > 0 && sector < kMostSectors && content_.ok(); sector = next(sector)) {
                bad_at_ = place_of(sector);
                const Extent here{bad_at_, std::min(left, sector_)};
                if (parts_.is_wanted() && !part.where.empty() && part.where.back().goes_on_with(here))
                    part.where.back().length += here.length;
                else if (parts_.is_wanted())
                    part.where.push_back(here);
                left -= here.length;
            }
            const bool is_right = left == 0 && sector == kEndOfChain;
            if (!is_right) part.check = Part::Check::wrong;
            if (parts_.is_wanted()) parts_.tell(std::move(part));
            hold = hold && is_right;
            // Whoever wants the parts gets those behind a damaged one, too.
            if (!hold && !parts_.is_wanted()) return false;
        }
        return hold;
    }

    std::string_view format() const {
        const auto has = [&](std::string_view wanted) {
            return std::find(names_.begin(), names_.end(), wanted) != names_.end();
        };
        if (has("WordDocument")) return "doc";
        if (has("Workbook") || has("Book")) return "xls";
        if (has("PowerPoint Document")) return "ppt";
        if (has("__properties_version1.0")) return "msg";
        if (root_class_ == 0x000C1084) return "msi";
        return "ole2";
    }

    struct Stream {
        std::uint32_t start;
        std::uint64_t size;
        std::string name;
    };
    Reader& content_;
    PartTeller parts_;
    std::uint64_t sector_ = 512;
    std::vector<std::uint32_t> table_sectors_;
    std::vector<std::string> names_;
    std::vector<Stream> streams_;
    std::uint32_t root_class_ = 0;
    std::uint64_t bad_at_ = 0;
};

Measured take_ole2_apart(Reader& content, const PartSink& parts) { return Structure(content, parts).measure(); }

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
    constexpr std::uint32_t kMostProperties = 64;
    const std::size_t section = set.u32le(44).value_or(0);
    const std::uint32_t count = std::min(set.u32le(section + 4).value_or(0), kMostProperties);
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
    constexpr std::size_t kHeader = 32, kEntry = 16, kMost = 64 << 10;
    const std::string subject = file.message_property("0037", kMost);
    said.title = printable(subject.substr(0, subject.find('\0')));
    const std::string properties = file.stream("__properties_version1.0", kMost);
    for (std::size_t at = kHeader; at + kEntry <= properties.size(); at += kEntry) {
        const std::uint32_t tag = *view_of(properties).u32le(at);
        if (tag == kSent || (tag == kCame && !said.date)) said.date = windows_time(*view_of(properties).u64le(at + 8));
    }
}

Description describe_ole2(Reader& content, std::uint64_t) {
    constexpr std::size_t kMostSummary = 64 << 10;  // bytes
    Description said;
    const CompoundFile file(content);
    const std::string summary = file.stream("\x05SummaryInformation", kMostSummary);
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
         .measure = measure_by<take_ole2_apart>,
         .take_apart = take_ole2_apart,
         .describe = describe_ole2,
         .ending = "the last sector in use",
         .checked = "the chain of every stream"},
        {.name = "doc", .kind = Kind::document, .extensions = {"doc", "dot"}, .signatures = mark, .told_by = "ole2"},
        {.name = "xls", .kind = Kind::document, .extensions = {"xls", "xlt"}, .signatures = mark, .told_by = "ole2"},
        {.name = "ppt", .kind = Kind::document, .extensions = {"ppt", "pps"}, .signatures = mark, .told_by = "ole2"},
        {.name = "msg", .kind = Kind::mail, .extensions = {"msg"}, .signatures = mark, .told_by = "ole2"},
        {.name = "msi", .kind = Kind::other, .extensions = {"msi"}, .signatures = mark, .told_by = "ole2"},
    };
    return family;
}

}  // namespace dredger::formats
