// ZIP archives, and the documents that are built on them, written anew from the entries that stand.
#include <algorithm>
#include <fmt/format.h>
#include <set>

#include "base/digest.h"
#include "base/text.h"
#include "formats/format.h"
#include "repairing/archive/deflate_rest.h"
#include "repairing/archive/zip_entries.h"
#include "repairing/archive/zip_writer.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"
#include "repairing/office/package.h"
#include "repairing/office/salvage.h"
#include "repairing/office/xml_cut.h"
#include "repairing/sense.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kLargestText = 64 << 20;  // bytes of a part that is held in memory
constexpr std::size_t kMostTold = 20;             // entries that are told one by one

// A part of the archive to be written.
struct Item {
    ZipHeader header;
    const ZipEntry* entry = nullptr;   // null: it was made here
    std::optional<std::string> bytes;  // in place of the entry's
};

bool is_xml(std::string_view name) {
    return name.ends_with(".xml") || name.ends_with(".rels") || name.ends_with(".rdf");
}

// Not what only tells how the document looks, or of itself.
bool has_text_of_document(std::string_view name) {
    static constexpr std::string_view kOthers[] = {
        "docProps/",   "META-INF/", "theme",       "styles",      "settings",  "fontTable",
        "webSettings", "Layout",    "Master",      "presProps",   "viewProps", "manifest.rdf",
        "meta.xml",    "numbering", "tableStyles", "[Content_Ty", ".rels"};
    return is_xml(name) && std::none_of(std::begin(kOthers), std::end(kOthers), [&](std::string_view other) {
               return name.find(other) != std::string_view::npos;
           });
}

class ZipMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        contents_ = find_zip_entries(file_, budget_);
        if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
        done_.unit = "entries";
        done_.of = contents_.entries.size();
        done_.format = "zip";
        for (const ZipEntry& entry : contents_.entries) {
            done_.kept += entry.is_whole() ? 1 : 0;
            if (entry.state != ZipEntry::State::lost) items_.push_back({entry.header, &entry, {}});
        }
        if (items_.empty()) {
            done_.what.emplace_back("none of its entries can be had");
            return std::move(done_);
        }
        is_office_open_ = has("word/") || has("xl/") || has("ppt/");
        is_open_document_ = !is_office_open_ && (names().contains("mimetype") || names().contains("content.xml")) &&
                            (has("META-INF/") || names().contains("content.xml"));
        const bool is_whole = contents_.is_as_it_should_be && done_.kept == done_.of;
        if (is_whole) {
            done_.outcome = Outcome::whole;
        } else {
            done_.outcome = done_.kept == done_.of ? Outcome::mended : Outcome::partly;
            done_.what = contents_.remarks;
            if (done_.what.empty() && done_.kept == done_.of) done_.what.emplace_back("its directory was made anew");
            DREDGER_CHECK(take_up_behind_damage());
            if (is_office_open_ || is_open_document_) make_it_open();
            tell_losses();
        }
        if (!is_readable_) DREDGER_CHECK(save_what_it_says());
        return write(is_whole);
    }

  private:
    bool has(std::string_view folder) const {
        return std::any_of(items_.begin(), items_.end(),
                           [&](const Item& item) { return item.header.name.starts_with(folder); });
    }
    std::set<std::string> names() const {
        std::set<std::string> names;
        for (const Item& item : items_) names.insert(item.header.name);
        return names;
    }
    Item* named(const std::string& name) {
        const auto found =
            std::find_if(items_.begin(), items_.end(), [&](const Item& item) { return item.header.name == name; });
        return found == items_.end() ? nullptr : &*found;
    }
    std::string text_of(const std::string& name) {
        const Item* item = named(name);
        if (item == nullptr) return {};
        return item->bytes ? *item->bytes : bytes_of(content_, *item->entry, kLargestText);
    }

    // Closes what was cut, and makes the parts without which no program opens the document.
    void make_it_open() {
        std::erase_if(items_, [&](Item& item) {
            if (item.entry == nullptr || item.entry->is_whole() || !is_xml(item.header.name) ||
                item.entry->kept > kLargestText)
                return false;
            const CutXml cut = cut_xml(bytes_of(content_, *item.entry, kLargestText));
            if (!cut.was_whole && !cut.text.empty()) {
                item.bytes = cut.text;
                done_.what.push_back(
                    fmt::format("{} ends behind its first {} bytes and was closed there", item.header.name, cut.kept));
            }
            return cut.text.empty();
        });
        const auto text = [&](const std::string& name) { return text_of(name); };
        PackageChanges changes = is_office_open_ ? complete_office_open(names(), text)
                                                 : complete_open_document(names(), text, extension_of(file_.name));
        for (std::string& remark : changes.remarks) done_.what.push_back(std::move(remark));
        if (!changes.has_main_part) {
            done_.what.emplace_back("its main part is lost: the parts that stand are kept");
            is_readable_ = false;
        }
        for (auto& [name, bytes] : changes.parts) {
            Item* item = named(name);
            if (item == nullptr) {
                // What says which document it is comes first.
                const auto place = name == "mimetype" ? items_.begin() : items_.end();
                item = &*items_.insert(place, Item());
                item->header.name = name;
                item->header.date = 0x21;  // the first day that the format knows
            }
            item->bytes = std::move(bytes);
        }
        const auto mime =
            std::find_if(items_.begin(), items_.end(), [](const Item& item) { return item.header.name == "mimetype"; });
        if (is_open_document_ && mime != items_.end()) std::rotate(items_.begin(), mime, mime + 1);
    }

    // Of packed text what stands behind the damage, too: beside the part that it belongs to, of documents beside them.
    Result<void> take_up_behind_damage() {
        const bool is_document = is_office_open_ || is_open_document_;
        std::string text;
        std::vector<Item> rests;
        for (const Item& item : items_) {
            const ZipEntry& entry = *item.entry;
            if (entry.state != ZipEntry::State::cut || item.header.method != kZipDeflated) continue;
            const std::string head = bytes_of(content_, entry, 256);
            SenseOfText sense;
            sense.add(std::as_bytes(std::span(head)));
            if (head.empty() || sense.sensible() < head.size()) continue;
            const std::uint64_t from = entry.data_at + entry.packed;
            const auto rest = deflate_rest(content_, from, end_of_data(from), [&] { return bench_.should_stop(); });
            if (!rest) continue;
            done_.what.push_back(
                fmt::format("behind the damage in {} {} bytes of text are there, with {} unknown ones between them",
                            printable(item.header.name), rest->known, rest->unknown));
            if (is_document) {
                text += fmt::format("{}\n\n{}\n", item.header.name, text_between_tags(rest->text));
                continue;
            }
            const std::size_t dot = item.header.name.rfind('.');
            Item added;
            added.header.name = item.header.name.substr(0, dot) + " (behind the damage)" +
                                (dot == std::string::npos ? "" : item.header.name.substr(dot));
            added.header.time = item.header.time;
            added.header.date = item.header.date;
            added.header.flags = kZipUtf8;
            added.bytes = rest->text;
            rests.push_back(std::move(added));
        }
        for (Item& rest : rests) items_.push_back(std::move(rest));
        return save_beside(done_, bench_, text, " (text behind the damage).txt");
    }

    // Where the next header stands.
    std::uint64_t end_of_data(std::uint64_t from) {
        std::uint64_t end = content_.size();
        for (const std::string_view mark : {"PK\1\2"sv, "PK\3\4"sv, "PK\7\x08"sv})
            end = content_.find(mark, from, end).value_or(end);
        return end;
    }

    // The text of its parts, and its pictures, for those who can't open it.
    Result<void> save_what_it_says() {
        std::string text;
        std::size_t number = 0;
        for (const Item& item : items_) {
            const std::string& name = item.header.name;
            if (item.entry == nullptr) continue;
            const Format* format = format_with_extension(extension_of(name));
            if (has_text_of_document(name) && item.header.size <= kLargestText) {
                const std::string said = text_of_xml(text_of(name));
                if (!said.empty()) text += fmt::format("{}\n\n{}\n", name, said);
            } else if (format != nullptr && format->kind == Kind::picture && item.entry->is_whole()) {
                DREDGER_TRY(Output output, bench_.output());
                each_byte_of(content_, *item.entry, [&](std::span<const std::byte> bytes) { output.add(bytes); });
                DREDGER_CHECK(output.finish());
                done_.beside.push_back(
                    {fmt::format(" (picture {}).{}", ++number, extension_of(name)), std::move(output)});
            }
        }
        return save_beside(done_, bench_, text, " (text).txt");
    }

    void tell_losses() {
        std::size_t told = 0;
        for (const ZipEntry& entry : contents_.entries) {
            if (entry.is_whole() || ++told > kMostTold) continue;
            const std::string name = printable(entry.header.name);
            switch (entry.state) {
                case ZipEntry::State::lost: done_.what.push_back(name + " is lost"); break;
                case ZipEntry::State::doubtful:
                    done_.what.push_back(name +
                                         " can be unpacked, but agrees with no checksum: something in it is wrong");
                    break;
                default:
                    done_.what.push_back(entry.header.size == 0
                                             ? fmt::format("only the first {} bytes of {} are there", entry.kept, name)
                                             : fmt::format("only the first {} of {} bytes of {} are there", entry.kept,
                                                           entry.header.size, name));
            }
        }
        if (told > kMostTold) done_.what.push_back(fmt::format("{} more entries are damaged", told - kMostTold));
    }

    Result<Mended> write(bool is_whole) {
        DREDGER_TRY(Output output, bench_.output());
        if (is_whole) {
            output.add(*file_.content, 0, file_.content->size());
        } else {
            ZipWriter writer(output);
            for (const Item& item : items_) write(writer, item);
            writer.finish();
        }
        DREDGER_CHECK(output.finish());
        if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
        if (const MediumPtr made = output.content()) {
            Budget budget = bench_.budget();
            Reader reader(*made, budget);
            const Measured found = measure(*format_named("zip"), reader);
            if (!found.format.empty()) done_.format = found.format;
        }
        const std::string extension = extension_of(file_.name);
        const Format* format = format_named(done_.format);
        if (format != nullptr && done_.format != "zip" &&
            std::find(format->extensions.begin(), format->extensions.end(), extension) == format->extensions.end())
            done_.extension = format->extensions.front();
        done_.result = std::move(output);
        return std::move(done_);
    }

    void write(ZipWriter& writer, const Item& item) {
        ZipHeader header = item.header;
        const ZipEntry* entry = item.entry;
        if (entry != nullptr && entry->is_whole() && !item.bytes) {
            writer.add(std::move(header),
                       [&](Output& output) { output.add(*file_.content, entry->data_at, entry->packed); });
            return;
        }
        header.method = kZipStored;
        header.version_needed = 20;
        if (entry != nullptr && !entry->is_whole())
            header.comment = fmt::format("damaged: {} bytes of it came back", entry->kept);
        if (item.bytes) {
            header.size = item.bytes->size();
            header.crc = crc32(std::as_bytes(std::span(*item.bytes)));
            writer.add(std::move(header), [&](Output& output) { output.add(*item.bytes); });
            return;
        }
        header.size = entry->kept;
        header.crc = entry->kept_crc;
        writer.add(std::move(header), [&](Output& output) {
            each_byte_of(content_, *entry, [&](std::span<const std::byte> bytes) { output.add(bytes); });
        });
    }

    ZipContents contents_;
    std::vector<Item> items_;
    bool is_office_open_ = false, is_open_document_ = false;
    bool is_readable_ = true;  // some program can open it
};

unsigned bid_for_zip(const Damaged& file) {
    Budget budget;
    Reader content(*file.content, budget);
    unsigned headers = 0;
    for (std::uint64_t at = 0; headers < 4;) {
        const auto next = content.find("PK", at, content.size());
        if (!next) break;
        at = *next + 2;
        if (read_local_header(content, *next) || read_central_header(content, *next)) ++headers;
    }
    return headers * 24;
}

}  // namespace

const Mender& zip_mender() {
    static const Mender mender = {
        "ZIP and documents built on it",
        {"zip", "docx", "xlsx", "pptx",  "xlsb", "vsdx", "odt",  "ods", "odp",   "odg",    "odf", "odb",
         "odc", "odi",  "sxw",  "sxc",   "sxi",  "sxd",  "epub", "kra", "ora",   "xps",    "3mf", "fcstd",
         "kmz", "apk",  "ipa",  "nupkg", "war",  "jar",  "whl",  "key", "pages", "numbers"},
        "headers, directory, parts",
        bid_for_zip,
        [](const Damaged& file, Workbench& bench) { return ZipMending(file, bench).run(); }};
    return mender;
}

}  // namespace dredger::repairing
