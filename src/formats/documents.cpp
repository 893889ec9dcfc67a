#include "formats/families.h"

namespace dredger::formats {

const std::vector<Format>& documents() {
    static const std::vector<Signature> zip = {{0, "PK\3\4"sv}};
    static const std::vector<Signature> ole2 = {{0, "\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1"sv}};
    static const std::vector<Format> family = {
        {"pdf", Kind::document, {"pdf", "ai"}, {{{0, "%PDF-"sv}}}},
        {"docx", Kind::document, {"docx", "docm", "dotx"}, {zip}},
        {"xlsx", Kind::document, {"xlsx", "xlsm"}, {zip}},
        {"pptx", Kind::document, {"pptx", "pptm", "ppsx"}, {zip}},
        {"opendocument", Kind::document, {"odt", "ods", "odp", "odg", "ott"}, {zip}},
        {"epub", Kind::document, {"epub"}, {zip}},
        {"iwork", Kind::document, {"pages", "numbers", "key"}, {zip}},
        {"doc", Kind::document, {"doc", "dot"}, {ole2}},
        {"xls", Kind::document, {"xls", "xlt"}, {ole2}},
        {"ppt", Kind::document, {"ppt", "pps"}, {ole2}},
        {"rtf", Kind::document, {"rtf"}, {{{0, "{\\rtf"sv}}}},
        {"html", Kind::document, {"html", "htm", "xhtml"}, {}, true},
        {"xml", Kind::document, {"xml", "gpx", "kml"}, {}, true},
        {"text",
         Kind::document,
         {"txt", "log", "md", "tex", "ini", "cfg", "conf", "yaml", "yml", "py", "sh", "c", "h", "cpp"},
         {},
         true},
        {"csv", Kind::document, {"csv", "tsv"}, {}, true},
        {"json", Kind::document, {"json", "geojson"}, {}, true},
        {"icalendar", Kind::document, {"ics"}, {}, true},
        {"vcard", Kind::document, {"vcf"}, {}, true},
    };
    return family;
}

}  // namespace dredger::formats
