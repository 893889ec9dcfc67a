#include "repairing/office/package.h"

#include <algorithm>
#include <fmt/format.h>
#include <pugixml.hpp>

#include "base/text.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;

constexpr std::string_view kXml = "<?xml version=\"1.0\" encoding=\"UTF-8\" standalone=\"yes\"?>\n";
constexpr std::string_view kRelations = "http://schemas.openxmlformats.org/package/2006/relationships";
constexpr std::string_view kOffice = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
constexpr std::string_view kVendor = "application/vnd.openxmlformats-officedocument.";

// What a part is, by its name: `#` stands for a number.
struct PartRule {
    std::string_view name;
    std::string_view type;      // behind kVendor, or with a slash: all of it
    std::string_view relation;  // behind kOffice, or with "http": all of it
};
constexpr PartRule kRules[] = {
    {"word/document.xml", "wordprocessingml.document.main+xml", "officeDocument"},
    {"word/styles.xml", "wordprocessingml.styles+xml", "styles"},
    {"word/numbering.xml", "wordprocessingml.numbering+xml", "numbering"},
    {"word/settings.xml", "wordprocessingml.settings+xml", "settings"},
    {"word/webSettings.xml", "wordprocessingml.webSettings+xml", "webSettings"},
    {"word/fontTable.xml", "wordprocessingml.fontTable+xml", "fontTable"},
    {"word/footnotes.xml", "wordprocessingml.footnotes+xml", "footnotes"},
    {"word/endnotes.xml", "wordprocessingml.endnotes+xml", "endnotes"},
    {"word/comments.xml", "wordprocessingml.comments+xml", "comments"},
    {"word/header#.xml", "wordprocessingml.header+xml", "header"},
    {"word/footer#.xml", "wordprocessingml.footer+xml", "footer"},
    {"word/theme/theme#.xml", "theme+xml", "theme"},
    {"word/media/image#", "", "image"},
    {"xl/workbook.xml", "spreadsheetml.sheet.main+xml", "officeDocument"},
    {"xl/worksheets/sheet#.xml", "spreadsheetml.worksheet+xml", "worksheet"},
    {"xl/chartsheets/sheet#.xml", "spreadsheetml.chartsheet+xml", "chartsheet"},
    {"xl/styles.xml", "spreadsheetml.styles+xml", "styles"},
    {"xl/sharedStrings.xml", "spreadsheetml.sharedStrings+xml", "sharedStrings"},
    {"xl/calcChain.xml", "spreadsheetml.calcChain+xml", "calcChain"},
    {"xl/theme/theme#.xml", "theme+xml", "theme"},
    {"xl/drawings/drawing#.xml", "drawing+xml", ""},
    {"xl/charts/chart#.xml", "drawingml.chart+xml", ""},
    {"xl/tables/table#.xml", "spreadsheetml.table+xml", ""},
    {"xl/comments#.xml", "spreadsheetml.comments+xml", ""},
    {"ppt/presentation.xml", "presentationml.presentation.main+xml", "officeDocument"},
    {"ppt/slides/slide#.xml", "presentationml.slide+xml", "slide"},
    {"ppt/slideMasters/slideMaster#.xml", "presentationml.slideMaster+xml", "slideMaster"},
    {"ppt/slideLayouts/slideLayout#.xml", "presentationml.slideLayout+xml", ""},
    {"ppt/notesMasters/notesMaster#.xml", "presentationml.notesMaster+xml", "notesMaster"},
    {"ppt/notesSlides/notesSlide#.xml", "presentationml.notesSlide+xml", ""},
    {"ppt/handoutMasters/handoutMaster#.xml", "presentationml.handoutMaster+xml", "handoutMaster"},
    {"ppt/presProps.xml", "presentationml.presProps+xml", "presProps"},
    {"ppt/viewProps.xml", "presentationml.viewProps+xml", "viewProps"},
    {"ppt/tableStyles.xml", "presentationml.tableStyles+xml", "tableStyles"},
    {"ppt/theme/theme#.xml", "theme+xml", "theme"},
    {"ppt/charts/chart#.xml", "drawingml.chart+xml", ""},
    {"docProps/core.xml", "application/vnd.openxmlformats-package.core-properties+xml",
     "http://schemas.openxmlformats.org/package/2006/relationships/metadata/core-properties"},
    {"docProps/app.xml", "extended-properties+xml", "extended-properties"},
    {"docProps/custom.xml", "custom-properties+xml", "custom-properties"},
};

constexpr std::pair<std::string_view, std::string_view> kMediaTypes[] = {
    {"png", "image/png"},
    {"jpeg", "image/jpeg"},
    {"jpg", "image/jpeg"},
    {"gif", "image/gif"},
    {"bmp", "image/bmp"},
    {"tiff", "image/tiff"},
    {"emf", "image/x-emf"},
    {"wmf", "image/x-wmf"},
    {"svg", "image/svg+xml"},
    {"bin", "application/vnd.openxmlformats-officedocument.oleObject"},
    {"xlsx", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"},
    {"vml", "application/vnd.openxmlformats-officedocument.vmlDrawing"},
    {"mp4", "video/mp4"},
    {"wav", "audio/x-wav"},
};

// The number that stands for `#`; none where the name does not go with the rule. What follows the number of a picture
// is its extension.
std::optional<unsigned> number_in(std::string_view name, std::string_view rule) {
    const std::size_t mark = rule.find('#');
    if (mark == rule.npos) return name == rule ? std::optional<unsigned>(0) : std::nullopt;
    if (!name.starts_with(rule.substr(0, mark))) return std::nullopt;
    name.remove_prefix(mark);
    unsigned number = 0;
    std::size_t digits = 0;
    while (digits < name.size() && digits < 6 && name[digits] >= '0' && name[digits] <= '9')
        number = number * 10 + static_cast<unsigned>(name[digits++] - '0');
    const std::string_view behind = name.substr(digits);
    const bool fits = mark + 1 == rule.size() ? behind.starts_with('.') : behind == rule.substr(mark + 1);
    return digits > 0 && fits ? std::optional(number) : std::nullopt;
}

const PartRule* rule_of(std::string_view name) {
    for (const PartRule& rule : kRules)
        if (number_in(name, rule.name)) return &rule;
    return nullptr;
}

// The parts that go with a rule, by their numbers.
std::vector<std::string> parts_of(const std::set<std::string>& names, std::string_view rule) {
    std::vector<std::pair<unsigned, std::string>> numbered;
    for (const std::string& name : names)
        if (const auto number = number_in(name, rule)) numbered.emplace_back(*number, name);
    std::sort(numbered.begin(), numbered.end());
    std::vector<std::string> parts;
    for (auto& [number, name] : numbered) parts.push_back(std::move(name));
    return parts;
}

std::string content_types(const std::set<std::string>& names) {
    std::set<std::string> extensions = {"rels", "xml"};
    for (const std::string& name : names) extensions.insert(extension_of(name));
    std::string xml =
        fmt::format("{}<Types xmlns=\"http://schemas.openxmlformats.org/package/2006/content-types\">", kXml);
    for (const std::string& extension : extensions) {
        std::string_view type = extension == "rels"  ? "application/vnd.openxmlformats-package.relationships+xml"sv
                                : extension == "xml" ? "application/xml"sv
                                                     : ""sv;
        for (const auto& [ending, media] : kMediaTypes)
            if (extension == ending) type = media;
        if (!type.empty()) xml += fmt::format("<Default Extension=\"{}\" ContentType=\"{}\"/>", extension, type);
    }
    for (const std::string& name : names) {
        const PartRule* rule = rule_of(name);
        if (rule == nullptr || rule->type.empty()) continue;
        xml += fmt::format("<Override PartName=\"/{}\" ContentType=\"{}{}\"/>", name,
                           rule->type.find('/') == std::string_view::npos ? kVendor : ""sv, rule->type);
    }
    return xml + "</Types>";
}

// The list as it stands, and behind it the parts that were made and that it does not name.
std::string with_types_of(const std::map<std::string, std::string>& made, std::string list) {
    const std::size_t end = list.rfind("</");
    if (end == list.npos) return list;
    std::string more;
    for (const auto& [name, text] : made) {
        const PartRule* rule = rule_of(name);
        if (rule == nullptr || rule->type.empty() || list.find("\"/" + name + "\"") != list.npos) continue;
        more += fmt::format("<Override PartName=\"/{}\" ContentType=\"{}{}\"/>", name, kVendor, rule->type);
    }
    return list.insert(end, more);
}

class Relations {
  public:
    void add(const std::string& id, std::string_view relation, const std::string& target) {
        xml_ += fmt::format("<Relationship Id=\"{}\" Type=\"{}{}{}\" Target=\"{}\"/>", id,
                            relation.starts_with("http") ? ""sv : kOffice, relation.starts_with("http") ? "" : "/",
                            relation, target);
        used_.insert(id);
    }
    void add(std::string_view relation, const std::string& target) { add(free_id(), relation, target); }
    void keep_free(const std::string& id) { used_.insert(id); }
    std::string text() const {
        return fmt::format("{}<Relationships xmlns=\"{}\">{}</Relationships>", kXml, kRelations, xml_);
    }

  private:
    std::string free_id() const {
        for (unsigned n = 1;; ++n)
            if (std::string id = fmt::format("rId{}", n); !used_.contains(id)) return id;
    }
    std::string xml_;
    std::set<std::string> used_;
};

// The identifiers of relations that elements of this name, or all with this attribute, use, in order, each once.
std::vector<std::string> ids_in(const pugi::xml_document& part, std::string_view element, const char* attribute) {
    std::vector<std::string> ids;
    for (const pugi::xpath_node& node : part.select_nodes("//*")) {
        if (!element.empty() && std::string_view(node.node().name()) != element) continue;
        const std::string id = node.node().attribute(attribute).value();
        if (!id.empty() && std::find(ids.begin(), ids.end(), id) == ids.end()) ids.push_back(id);
    }
    return ids;
}

std::string relations_part_of(const std::string& part) {
    const std::size_t slash = part.rfind('/');
    return part.substr(0, slash) + "/_rels" + part.substr(slash) + ".rels";
}

// The path from the folder of the main part.
std::string from_main(const std::string& main, const std::string& part) {
    const std::string folder = main.substr(0, main.find('/') + 1);
    return part.starts_with(folder) ? part.substr(folder.size()) : "/" + part;
}

// Ties what the main part asks for by identifiers to parts: in the order in which it asks, and in that of their
// numbers.
class MainRelations {
  public:
    MainRelations(std::string main, const std::set<std::string>& names, const std::string& text)
        : main_(std::move(main)), names_(names) {
        document_.load_buffer(text.data(), text.size());
    }

    std::string run(std::vector<std::string>& remarks) {
        for (const char* attribute : {"r:id", "r:embed", "r:link"})
            for (const std::string& id : ids_in(document_, "", attribute)) relations_.keep_free(id);
        tie("sheet", "r:id", "xl/worksheets/sheet#.xml", remarks, "which sheet has which name was guessed");
        tie("p:sldMasterId", "r:id", "ppt/slideMasters/slideMaster#.xml", remarks, "");
        tie("p:sldId", "r:id", "ppt/slides/slide#.xml", remarks, "the order of the slides was guessed");
        tie("a:blip", "r:embed", "word/media/image#", remarks, "which picture stands where was guessed");
        for (const std::string& name : names_) {
            const PartRule* rule = rule_of(name);
            if (rule == nullptr || rule->relation.empty() || tied_.contains(name) || name.starts_with("docProps/") ||
                name == main_ || !name.starts_with(main_.substr(0, main_.find('/'))))
                continue;
            relations_.add(rule->relation, from_main(main_, name));
        }
        return relations_.text();
    }

  private:
    void tie(std::string_view element, const char* attribute, std::string_view rule, std::vector<std::string>& remarks,
             std::string_view guessed) {
        const std::vector<std::string> ids = ids_in(document_, element, attribute);
        const std::vector<std::string> parts = parts_of(names_, rule);
        for (std::size_t i = 0; i < std::min(ids.size(), parts.size()); ++i) {
            relations_.add(ids[i], rule_of(parts[i])->relation, from_main(main_, parts[i]));
            tied_.insert(parts[i]);
        }
        if (ids.size() > 1 && !parts.empty() && !guessed.empty()) remarks.emplace_back(guessed);
    }

    std::string main_;
    const std::set<std::string>& names_;
    pugi::xml_document document_;
    Relations relations_;
    std::set<std::string> tied_;
};

// By which identifiers the relations of a main part tell of these parts; empty where they don't tell of all.
std::vector<std::string> identifiers_of(const std::vector<std::string>& parts, const std::string& main,
                                        const std::string& relations) {
    pugi::xml_document document;
    document.load_buffer(relations.data(), relations.size());
    std::vector<std::string> ids;
    for (const std::string& part : parts)
        for (const pugi::xml_node& relation : document.document_element().children())
            if (const std::string target = relation.attribute("Target").value();
                target == from_main(main, part) || target == "/" + part) {
                ids.emplace_back(relation.attribute("Id").value());
                break;
            }
    return ids.size() == parts.size() ? ids : std::vector<std::string>();
}

// Those that a new list of relations gives.
std::vector<std::string> new_identifiers(std::size_t count) {
    std::vector<std::string> ids;
    for (std::size_t i = 1; i <= count; ++i) ids.push_back(fmt::format("rId{}", i));
    return ids;
}

std::string workbook_of(const std::vector<std::string>& sheets) {
    std::string xml = fmt::format(
        "{}<workbook xmlns=\"http://schemas.openxmlformats.org/spreadsheetml/2006/main\" xmlns:r=\"{}\"><sheets>", kXml,
        kOffice);
    for (std::size_t i = 0; i < sheets.size(); ++i)
        xml += fmt::format("<sheet name=\"Sheet {0}\" sheetId=\"{0}\" r:id=\"{1}\"/>", i + 1, sheets[i]);
    return xml + "</sheets></workbook>";
}

// By the identifiers of masters and slides; their other numbers as ECMA-376, part 1, 19.7.3 and 19.7.4, bound them.
std::string presentation_of(std::span<const std::string> masters, std::span<const std::string> slides) {
    std::string xml = fmt::format(
        "{}<p:presentation xmlns:p=\"http://schemas.openxmlformats.org/presentationml/2006/main\" xmlns:r=\"{}\">"
        "<p:sldMasterIdLst>",
        kXml, kOffice);
    // Layouts have numbers of the same range, which are not known here.
    for (std::size_t i = 0; i < masters.size(); ++i)
        xml += fmt::format("<p:sldMasterId id=\"{}\" r:id=\"{}\"/>", 3000000000 + 1000 * i, masters[i]);
    xml += "</p:sldMasterIdLst><p:sldIdLst>";
    for (std::size_t i = 0; i < slides.size(); ++i)
        xml += fmt::format("<p:sldId id=\"{}\" r:id=\"{}\"/>", 256 + i, slides[i]);
    return xml +
           "</p:sldIdLst><p:sldSz cx=\"9144000\" cy=\"6858000\"/><p:notesSz cx=\"6858000\" cy=\"9144000\"/>"
           "</p:presentation>";
}

// A list that is long enough for every cell that asks for a shared text, each of which says that it is lost.
std::string lost_strings(const std::set<std::string>& names, const TextOfPart& text_of) {
    constexpr std::uint64_t kMost = 1 << 20;
    std::uint64_t count = 0;
    for (const std::string& sheet : parts_of(names, "xl/worksheets/sheet#.xml")) {
        pugi::xml_document part;
        const std::string text = text_of(sheet);
        part.load_buffer(text.data(), text.size());
        for (const pugi::xpath_node& cell : part.select_nodes("//c[@t='s']/v"))
            count = std::max<std::uint64_t>(count, cell.node().text().as_ullong() + 1);
    }
    count = std::min(count, kMost);
    if (count == 0) return {};
    std::string xml = fmt::format(
        "{}<sst xmlns=\"http://schemas.openxmlformats.org/spreadsheetml/2006/main\" count=\"{}\" uniqueCount=\"{}\">",
        kXml, count, count);
    for (std::uint64_t i = 0; i < count; ++i) xml += "<si><t>[text lost]</t></si>";
    return xml + "</sst>";
}

}  // namespace

PackageChanges complete_office_open(const std::set<std::string>& names, const TextOfPart& text_of) {
    PackageChanges changes;
    std::set<std::string> all = names;
    const auto make = [&](const std::string& name, std::string text, std::string_view remark) {
        all.insert(name);
        changes.parts[name] = std::move(text);
        if (!remark.empty()) changes.remarks.emplace_back(remark);
    };
    bool fits_relations = true;
    const auto identifiers = [&](const std::vector<std::string>& parts, const std::string& of) {
        const std::string relations = relations_part_of(of);
        std::vector<std::string> ids;
        if (names.contains(relations)) ids = identifiers_of(parts, of, text_of(relations));
        fits_relations = !ids.empty();
        return ids.empty() ? new_identifiers(parts.size()) : ids;
    };
    const std::vector<std::string> sheets = parts_of(names, "xl/worksheets/sheet#.xml");
    if (!sheets.empty() && !names.contains("xl/workbook.xml"))
        make("xl/workbook.xml", workbook_of(identifiers(sheets, "xl/workbook.xml")),
             "the list of sheets was made anew, their names are lost");
    const std::vector<std::string> slides = parts_of(names, "ppt/slides/slide#.xml");
    if (!slides.empty() && !names.contains("ppt/presentation.xml")) {
        std::vector<std::string> parts = parts_of(names, "ppt/slideMasters/slideMaster#.xml");
        const std::size_t masters = parts.size();
        parts.insert(parts.end(), slides.begin(), slides.end());
        const std::vector<std::string> ids = identifiers(parts, "ppt/presentation.xml");
        make("ppt/presentation.xml", presentation_of(std::span(ids).first(masters), std::span(ids).subspan(masters)),
             "the list of slides was made anew, in the order of their numbers; their size is guessed");
    }
    if (!sheets.empty() && !names.contains("xl/sharedStrings.xml"))
        if (std::string lost = lost_strings(names, text_of); !lost.empty())
            make("xl/sharedStrings.xml", std::move(lost), "the texts of cells are lost: a note stands in their place");

    std::string main;
    for (const char* name : {"word/document.xml", "xl/workbook.xml", "ppt/presentation.xml"})
        if (all.contains(name)) main = name;
    changes.has_main_part = !main.empty();
    if (main.empty()) return changes;
    if (const std::string part = relations_part_of(main); !names.contains(part) || !fits_relations) {
        const auto made = changes.parts.find(main);
        make(part,
             MainRelations(main, all, made == changes.parts.end() ? text_of(main) : made->second).run(changes.remarks),
             "the relations of the main part were made anew");
    }
    if (!names.contains("_rels/.rels")) {
        Relations relations;
        relations.add("officeDocument", main);
        for (const char* name : {"docProps/core.xml", "docProps/app.xml", "docProps/custom.xml"})
            if (names.contains(name)) relations.add(rule_of(name)->relation, name);
        make("_rels/.rels", relations.text(), "the relations of the package were made anew");
    }
    if (!names.contains("[Content_Types].xml"))
        make("[Content_Types].xml", content_types(all), "the list of parts was made anew");
    else if (!changes.parts.empty())
        make("[Content_Types].xml", with_types_of(changes.parts, text_of("[Content_Types].xml")), "");
    return changes;
}

PackageChanges complete_open_document(const std::set<std::string>& names, const TextOfPart& text_of,
                                      std::string_view format) {
    constexpr std::pair<std::string_view, std::string_view> kTypes[] = {
        {"odt", "text"}, {"ods", "spreadsheet"}, {"odp", "presentation"}, {"odg", "graphics"}, {"odf", "formula"}};
    PackageChanges changes;
    changes.has_main_part = names.contains("content.xml");
    if (!changes.has_main_part) return changes;
    std::string_view kind = "text";
    // Where nothing else tells, the document's own body does.
    const std::string content = text_of("content.xml");
    for (const auto& [extension, type] : kTypes) {
        if (format == extension) kind = type;
        if (content.find(fmt::format("<office:{}", type)) != std::string::npos && !names.contains("mimetype"))
            kind = type;
    }
    const std::string mime = fmt::format("application/vnd.oasis.opendocument.{}", kind);
    if (!names.contains("mimetype")) {
        changes.parts["mimetype"] = mime;
        changes.remarks.emplace_back("the type of the document was told anew");
    }
    if (!names.contains("META-INF/manifest.xml")) {
        std::string xml = fmt::format(
            "{}<manifest:manifest xmlns:manifest=\"urn:oasis:names:tc:opendocument:xmlns:manifest:1.0\" "
            "manifest:version=\"1.2\"><manifest:file-entry manifest:full-path=\"/\" manifest:media-type=\"{}\"/>",
            kXml, mime);
        for (const std::string& name : names) {
            if (name == "mimetype" || name.ends_with('/')) continue;
            std::string_view type = name.ends_with(".xml")   ? "text/xml"sv
                                    : name.ends_with(".rdf") ? "application/rdf+xml"sv
                                                             : ""sv;
            for (const auto& [ending, media] : kMediaTypes)
                if (extension_of(name) == ending) type = media;
            xml +=
                fmt::format("<manifest:file-entry manifest:full-path=\"{}\" manifest:media-type=\"{}\"/>", name, type);
        }
        changes.parts["META-INF/manifest.xml"] = xml + "</manifest:manifest>";
        changes.remarks.emplace_back("the list of parts was made anew");
    }
    return changes;
}

}  // namespace dredger::repairing
