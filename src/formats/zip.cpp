// ZIP (PKWARE APPNOTE 6.3.10) and what is built on it, told apart by its entries: Office Open XML (ECMA-376), ODF
// (OASIS OpenDocument 1.3), EPUB (OCF 3.3), Apple's office files, Android and Java packages.
#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <pugixml.hpp>
#include <set>

#include "base/text.h"
#include "formats/dates.h"
#include "formats/families.h"
#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

constexpr std::string_view kLocal = "PK\3\4"sv;
constexpr std::string_view kCentral = "PK\1\2"sv;
constexpr std::string_view kEnd = "PK\5\6"sv;
constexpr std::string_view kEnd64 = "PK\6\6"sv;
constexpr std::string_view kDescriptor = "PK\7\x08"sv;
constexpr std::uint64_t kMaxEntries = 4 << 20;
constexpr std::uint64_t kFurthest = 256 << 20;  // how far the end of an entry is looked for, bytes

// Tells the finer format from the names of entries, and from those that say what it is.
class Contents {
  public:
    void note(Reader& content, std::string name, std::uint64_t data, std::uint64_t size, bool stored) {
        constexpr std::size_t kMaxManifest = 64 << 10;
        std::replace(name.begin(), name.end(), '\\', '/');  // as some writers separate folders
        if (count_++ == 0 && name == "mimetype" && stored)
            mime_ = content.text(data, static_cast<std::size_t>(std::min<std::uint64_t>(size, 128)));
        // Where it comes without its first entry, the list of all says the same.
        if (mime_.empty() && name == "META-INF/manifest.xml") {
            const std::string list =
                stored ? content.text(data, static_cast<std::size_t>(std::min<std::uint64_t>(size, kMaxManifest)))
                       : unpack(content, Packing::deflate, data, size, kMaxManifest).head;
            const std::size_t root = list.find("full-path=\"/\"");
            const std::size_t element = list.rfind('<', root);
            if (root != std::string::npos && element != std::string::npos)
                mime_ = list.substr(element, list.find('>', root) - element);
        }
        const auto begins = [&](std::string_view with) { return name.starts_with(with); };
        if (begins("Index/Slide") || begins("Index/MasterSlide")) key_ = true;
        if (begins("Index/CalculationEngine") || begins("Index/Tables/")) tables_ = true;
        if (begins("Index/Document.iwa") || name == "Index.zip") apple_ = true;
        // The first message of a text document has a type of its own.
        if (begins("Index/Document.iwa") && stored &&
            content.text(data, 32).find("\x08\x90\x4E"sv) != std::string::npos)
            text_ = true;
        if (begins("Index/") && name.find("Section") != std::string::npos) text_ = true;
        for (const auto& [mark, format] : kMarks)
            if (mark.back() == '/' ? begins(mark) : mark.front() == '.' ? name.ends_with(mark) : name == mark)
                marked_.insert(format);
    }
    std::string_view format() const {
        for (const auto& [mime, format] : kMimes)
            if (mime_.find(mime) != std::string::npos) return format;
        if (apple_) return key_ ? "key" : text_ || !tables_ ? "pages" : "numbers";
        for (const auto& [mark, format] : kMarks)
            if (marked_.contains(format)) return format;
        return "zip";
    }

  private:
    using Rule = std::pair<std::string_view, std::string_view>;
    static constexpr Rule kMimes[] = {{"opendocument.text", "odt"},
                                      {"opendocument.spreadsheet", "ods"},
                                      {"opendocument.presentation", "odp"},
                                      {"opendocument.graphics", "odg"},
                                      {"opendocument.formula", "odf"},
                                      {"opendocument.base", "odb"},
                                      {"opendocument.chart", "odc"},
                                      {"opendocument.image", "odi"},
                                      {"sun.xml.writer", "sxw"},
                                      {"sun.xml.calc", "sxc"},
                                      {"sun.xml.impress", "sxi"},
                                      {"sun.xml.draw", "sxd"},
                                      {"epub", "epub"},
                                      {"x-krita", "kra"},
                                      {"openraster", "ora"}};
    // Names of entries: of folders with a slash at the end, endings with a point before them. The first one counts.
    static constexpr Rule kMarks[] = {{"xl/workbook.bin", "xlsb"},
                                      {"word/", "docx"},
                                      {"xl/", "xlsx"},
                                      {"ppt/", "pptx"},
                                      {"visio/", "vsdx"},
                                      {"FixedDocSeq.fdseq", "xps"},
                                      {"FixedDocumentSequence.fdseq", "xps"},
                                      {"3D/3dmodel.model", "3mf"},
                                      {"GuiDocument.xml", "fcstd"},
                                      {"maindoc.xml", "kra"},
                                      {"META-INF/container.xml", "epub"},
                                      {"doc.kml", "kmz"},
                                      {"AndroidManifest.xml", "apk"},
                                      {"Payload/", "ipa"},
                                      {".nuspec", "nupkg"},
                                      {"WEB-INF/", "war"},
                                      {"META-INF/MANIFEST.MF", "jar"},
                                      {".dist-info/WHEEL", "whl"}};

    std::string mime_;
    std::uint64_t count_ = 0;
    bool apple_ = false, key_ = false, tables_ = false, text_ = false;
    std::set<std::string_view> marked_;
};

class EntryWalk {
  public:
    EntryWalk(Reader& content, const PartSink& parts) : content_(content), parts_(parts) {}

    Measured run() {
        if (content_.has(0, kEnd))
            return content_.u16le(10) == 0 && content_.u32le(12) == 0 && content_.u32le(16) == 0
                       ? whole(22 + std::uint64_t{content_.u16le(20)}, Proof::structure, "zip")
                       : nonsense();
        std::optional<Measured> trouble;  // the first
        const bool only_parts = parts_.is_wanted();
        while (content_.has(at_, kLocal) && entries_ < kMaxEntries && only_parts == parts_.is_wanted()) {
            if (entry()) continue;
            if (!trouble) trouble = stopped(trouble_at_, "an entry's checksum is off, or it can't be unpacked");
            // Whoever wants the parts gets those behind a damaged one, too.
            if (!parts_.is_wanted() || behind_damage_ <= at_) break;
            at_ = behind_damage_;
        }
        if (trouble) return *trouble;
        if (entries_ == 0) return nonsense();
        // Some writers leave room between entries and directory, for signatures.
        if (!content_.has(at_, kCentral))
            if (const auto next = content_.find(kCentral, at_, at_ + 65536); next && is_signing_block(at_, *next)) {
                unchecked_ = *next - at_;
                at_ = *next;
            }
        return directory();
    }

  private:
    Measured stopped(std::uint64_t good, std::string_view why) const {
        // A few bytes of nonsense behind a header are no file.
        if (entries_ == 0 && good < data_start_ + 512) return nonsense();
        return broken_between(std::min(sure_, good), std::min(good, content_.size()), why, 0, contents_.format());
    }

    bool is_signing_block(std::uint64_t from, std::uint64_t to) {
        return to >= from + 32 && content_.has(to - 16, "APK Sig Block 42");
    }

    bool entry() {
        const unsigned version = content_.u16le(at_ + 4) & 0xFFU;
        const unsigned flags = content_.u16le(at_ + 6);
        const unsigned method = content_.u16le(at_ + 8);
        const std::uint64_t name_length = content_.u16le(at_ + 26);
        const std::uint64_t extra_length = content_.u16le(at_ + 28);
        trouble_at_ = sure_ = at_;
        behind_damage_ = 0;
        if (version > 63 || name_length == 0 || method > 99) return false;
        data_start_ = at_ + 30 + name_length + extra_length;
        if (!content_.holds(at_, data_start_ - at_)) return false;
        const std::string name = content_.text(at_ + 30, static_cast<std::size_t>(name_length));
        if (name.find('\0') != std::string::npos) return false;
        std::uint64_t packed = content_.u32le(at_ + 18);
        std::uint64_t size = content_.u32le(at_ + 22);
        std::uint32_t crc = content_.u32le(at_ + 14);
        const bool wide = read_long_sizes(at_ + 30 + name_length, extra_length, packed, size);
        const bool described = (flags & 8U) != 0 && packed == 0;
        const bool encrypted = (flags & 1U) != 0;
        std::uint64_t end = data_start_ + packed;
        std::uint32_t found_crc = crc;
        const auto tell = [&](std::uint64_t length, std::uint64_t bytes, Part::Check check) {
            const Packing packing = encrypted     ? Packing::unknown
                                    : method == 0 ? Packing::none
                                    : method == 8 ? Packing::deflate
                                                  : Packing::unknown;
            if (parts_.is_wanted()) parts_.tell({"entry", name, {{data_start_, length}}, packing, bytes, check});
        };
        if (!described && content_.holds(data_start_, packed)) behind_damage_ = end;
        if (method == 8 && !encrypted) {
            const Unpacked unpacked =
                unpack(content_, Packing::deflate, data_start_, described ? content_.size() : packed);
            trouble_at_ = data_start_ + unpacked.packed;
            if (!unpacked.ended() || (!described && (unpacked.packed != packed || unpacked.bytes != size))) {
                tell(described ? unpacked.packed : packed, size, Part::Check::wrong);
                return false;
            }
            end = data_start_ + unpacked.packed;
            found_crc = unpacked.crc;
            size = unpacked.bytes;
        } else if (!described) {
            trouble_at_ = std::min(end, content_.size());
            if (!content_.holds(data_start_, packed)) return false;
            if (method == 0 && !encrypted) {
                found_crc = crc32_of(content_, data_start_, packed);
            } else {
                all_checked_ = false;
            }
        } else {
            // Packed in another way, and its length stands behind it.
            const auto mark =
                content_.find(kDescriptor, data_start_, std::min(content_.size(), data_start_ + kFurthest));
            if (!mark) return false;
            end = *mark;
            all_checked_ = false;
        }
        const std::uint64_t stored_length = end - data_start_;
        contents_.note(content_, name, data_start_, std::min(packed, stored_length), method == 0);
        if ((flags & 8U) != 0) {
            const std::uint64_t signature = content_.has(end, kDescriptor) ? 4 : 0;
            // Sizes of four bytes or of eight: what stands behind them tells.
            const bool is_wide = !is_record(end + signature + 12) && (is_record(end + signature + 20) || wide);
            if (described && method == 8) crc = content_.u32le(end + signature);
            end += signature + (is_wide ? 20 : 12);
        }
        const bool is_checked = !encrypted && (method == 0 ? !described : method == 8);
        const bool is_right = found_crc == crc || encrypted || method == 99;
        tell(stored_length, size, !is_right ? Part::Check::wrong : is_checked ? Part::Check::right : Part::Check::none);
        if (!is_right) {
            trouble_at_ = behind_damage_ = end;
            return false;
        }
        at_ = end;
        ++entries_;
        return true;
    }

    // An entry, the directory, or what some writers put between the two.
    bool is_record(std::uint64_t at) {
        return content_.has(at, kLocal) || content_.has(at, kCentral) || content_.has(at, "PK\6\x08"sv) ||
               content_.has(at, kEnd) ||
               (content_.holds(at, 32) && content_.u64le(at) < 1 << 24 && content_.u32le(at + 12) == 0x7109871A);
    }

    bool read_long_sizes(std::uint64_t at, std::uint64_t length, std::uint64_t& packed, std::uint64_t& size) {
        for (const std::uint64_t end = at + length; at + 4 <= end; at += 4 + std::uint64_t{content_.u16le(at + 2)}) {
            if (content_.u16le(at) != 1) continue;
            std::uint64_t p = at + 4;
            if (size == 0xFFFFFFFF) size = content_.u64le(p), p += 8;
            if (packed == 0xFFFFFFFF) packed = content_.u64le(p);
            return true;
        }
        return false;
    }

    Measured directory() {
        const std::uint64_t start = sure_ = at_;
        std::uint64_t listed = 0;
        while (content_.has(at_, kCentral)) {
            const std::uint64_t length =
                46 + std::uint64_t{content_.u16le(at_ + 28)} + content_.u16le(at_ + 30) + content_.u16le(at_ + 32);
            if (!content_.holds(at_, length)) break;
            at_ += length;
            ++listed;
        }
        const std::uint64_t size = at_ - start;
        if (content_.has(at_, "PK\5\5"))
            at_ += 6 + std::uint64_t{content_.u16le(at_ + 4)};  // a signature of the directory
        if (content_.has(at_, kEnd64)) at_ += 12 + content_.u64le(at_ + 4) + 20;
        if (!content_.has(at_, kEnd) || !content_.holds(at_, 22)) return stopped(at_, "its directory is missing");
        const bool fits = content_.u32le(at_ + 12) == (size & 0xFFFFFFFF) || content_.u32le(at_ + 12) == 0xFFFFFFFF;
        if (!fits || listed < entries_) return stopped(at_, "its directory does not fit its entries");
        // What stands before its first entry here may be missing; a program before an archive is not counted by some.
        const std::uint64_t said = content_.u32le(at_ + 16);
        if (said != 0xFFFFFFFF && said > start) return stopped(at_, "entries before its first one are missing");
        const std::uint64_t end = at_ + 22 + content_.u16le(at_ + 20);
        if (!content_.holds(0, end)) return stopped(at_, "its end is missing");
        return whole(end, all_checked_ ? proof_without(unchecked_, end) : Proof::chain, contents_.format());
    }

    Reader& content_;
    PartTeller parts_;
    Contents contents_;
    std::uint64_t at_ = 0, entries_ = 0, data_start_ = 0, trouble_at_ = 0, sure_ = 0;
    std::uint64_t behind_damage_ = 0;  // where the entry after a damaged one begins; 0: that is not told
    std::uint64_t unchecked_ = 0;      // bytes of signatures
    bool all_checked_ = true;
};

Measured take_zip_apart(Reader& content, const PartSink& parts) { return EntryWalk(content, parts).run(); }

// The end of the directory tells where the directory begins.
std::vector<std::uint64_t> gaps_of_zip(Reader& content, const Measured& found) {
    constexpr unsigned kMaxEnds = 8;
    std::vector<std::uint64_t> gaps;
    std::uint64_t at = found.sure;
    for (unsigned n = 0; n < kMaxEnds; ++n) {
        const auto end = content.find(kEnd, at, std::min(content.size(), found.sure + kFurthest));
        if (!end) break;
        const std::uint64_t said = std::uint64_t{content.u32le(*end + 12)} + content.u32le(*end + 16);
        if (said < *end && content.has(*end - content.u32le(*end + 12), kCentral)) gaps.push_back(*end - said);
        at = *end + 4;
    }
    return gaps;
}

// What office files say of themselves: Dublin Core in an entry of their own ([ECMA-376-2] 11, ODF 1.3 part 2, EPUB).
void take_metadata(const std::string& xml, Description& said) {
    pugi::xml_document document;
    (void)document.load_buffer(xml.data(), xml.size());  // as far as it goes
    std::map<std::string_view, std::string> values;      // by the name of the element, without its namespace
    struct Walker : pugi::xml_tree_walker {
        std::map<std::string_view, std::string>& found;
        explicit Walker(std::map<std::string_view, std::string>& into) : found(into) {}
        bool for_each(pugi::xml_node& node) override {
            const std::string_view name = node.name();
            const std::string_view local = name.substr(name.find(':') + 1);
            for (const std::string_view wanted : {"title", "modified", "date", "created", "creation-date"})
                if (local == wanted) found.emplace(wanted, node.child_value());
            return true;
        }
    } walker(values);
    document.traverse(walker);
    said.title = printable(values["title"]);
    for (const std::string_view name : {"modified", "date", "created", "creation-date"})
        if (!said.date) said.date = xml_date(values[name]);
}

Description describe_zip(Reader& content, std::uint64_t) {
    constexpr std::size_t kMaxMetadata = 64 << 10;  // bytes
    Description said;
    (void)take_zip_apart(content, [&](Part&& part) {
        if (part.name != "docProps/core.xml" && part.name != "meta.xml" && !part.name.ends_with(".opf")) return true;
        take_metadata(bytes_of(content, part, kMaxMetadata), said);
        return false;
    });
    return said;
}

}  // namespace

const std::vector<Format>& zip() {
    static const std::vector<std::vector<Signature>> mark = {{{0, kLocal}}};
    static const std::vector<Format> family = {
        {.name = "zip",
         .kind = Kind::archive,
         .extensions = {"zip"},
         .signatures = {{{0, kLocal}}, {{0, kEnd}}},
         .measure = measure_by<take_zip_apart>,
         .take_apart = take_zip_apart,
         .gaps = gaps_of_zip,
         .describe = describe_zip,
         .ending = "the end of its directory",
         .checked = "the checksum of every entry"},
        {.name = "docx",
         .kind = Kind::document,
         .extensions = {"docx", "docm", "dotx", "dotm"},
         .signatures = mark,
         .told_by = "zip"},
        {.name = "xlsx",
         .kind = Kind::document,
         .extensions = {"xlsx", "xlsm", "xltx", "xltm", "xlam"},
         .signatures = mark,
         .told_by = "zip"},
        {.name = "pptx",
         .kind = Kind::document,
         .extensions = {"pptx", "pptm", "ppsx", "potx", "potm"},
         .signatures = mark,
         .told_by = "zip"},
        {.name = "odt",
         .kind = Kind::document,
         .extensions = {"odt", "ott", "odm", "oth"},
         .signatures = mark,
         .told_by = "zip"},
        {.name = "ods", .kind = Kind::document, .extensions = {"ods", "ots"}, .signatures = mark, .told_by = "zip"},
        {.name = "odp", .kind = Kind::document, .extensions = {"odp", "otp"}, .signatures = mark, .told_by = "zip"},
        {.name = "odg", .kind = Kind::document, .extensions = {"odg", "otg"}, .signatures = mark, .told_by = "zip"},
        {.name = "odf", .kind = Kind::document, .extensions = {"odf"}, .signatures = mark, .told_by = "zip"},
        {.name = "odb", .kind = Kind::database, .extensions = {"odb"}, .signatures = mark, .told_by = "zip"},
        {.name = "odc", .kind = Kind::document, .extensions = {"odc"}, .signatures = mark, .told_by = "zip"},
        {.name = "odi", .kind = Kind::picture, .extensions = {"odi"}, .signatures = mark, .told_by = "zip"},
        {.name = "sxw", .kind = Kind::document, .extensions = {"sxw", "stw"}, .signatures = mark, .told_by = "zip"},
        {.name = "sxc", .kind = Kind::document, .extensions = {"sxc", "stc"}, .signatures = mark, .told_by = "zip"},
        {.name = "sxi", .kind = Kind::document, .extensions = {"sxi", "sti"}, .signatures = mark, .told_by = "zip"},
        {.name = "sxd", .kind = Kind::document, .extensions = {"sxd"}, .signatures = mark, .told_by = "zip"},
        {.name = "xlsb", .kind = Kind::document, .extensions = {"xlsb"}, .signatures = mark, .told_by = "zip"},
        {.name = "vsdx",
         .kind = Kind::document,
         .extensions = {"vsdx", "vsdm", "vstx", "vssx"},
         .signatures = mark,
         .told_by = "zip"},
        {.name = "xps", .kind = Kind::document, .extensions = {"xps", "oxps"}, .signatures = mark, .told_by = "zip"},
        {.name = "3mf", .kind = Kind::picture, .extensions = {"3mf"}, .signatures = mark, .told_by = "zip"},
        {.name = "fcstd", .kind = Kind::picture, .extensions = {"fcstd"}, .signatures = mark, .told_by = "zip"},
        {.name = "kra", .kind = Kind::picture, .extensions = {"kra"}, .signatures = mark, .told_by = "zip"},
        {.name = "ora", .kind = Kind::picture, .extensions = {"ora"}, .signatures = mark, .told_by = "zip"},
        {.name = "kmz", .kind = Kind::document, .extensions = {"kmz"}, .signatures = mark, .told_by = "zip"},
        {.name = "ipa", .kind = Kind::archive, .extensions = {"ipa"}, .signatures = mark, .told_by = "zip"},
        {.name = "nupkg", .kind = Kind::archive, .extensions = {"nupkg"}, .signatures = mark, .told_by = "zip"},
        {.name = "war", .kind = Kind::archive, .extensions = {"war"}, .signatures = mark, .told_by = "zip"},
        {.name = "whl", .kind = Kind::archive, .extensions = {"whl"}, .signatures = mark, .told_by = "zip"},
        {.name = "epub", .kind = Kind::document, .extensions = {"epub"}, .signatures = mark, .told_by = "zip"},
        {.name = "pages", .kind = Kind::document, .extensions = {"pages"}, .signatures = mark, .told_by = "zip"},
        {.name = "numbers", .kind = Kind::document, .extensions = {"numbers"}, .signatures = mark, .told_by = "zip"},
        {.name = "key", .kind = Kind::document, .extensions = {"key"}, .signatures = mark, .told_by = "zip"},
        {.name = "apk", .kind = Kind::archive, .extensions = {"apk"}, .signatures = mark, .told_by = "zip"},
        {.name = "jar", .kind = Kind::archive, .extensions = {"jar"}, .signatures = mark, .told_by = "zip"},
    };
    return family;
}

}  // namespace dredger::formats
