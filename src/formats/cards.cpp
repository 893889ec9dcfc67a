// Calendars and cards (RFC 5545, RFC 6350).
#include "formats/characters.h"

namespace dredger::formats {

using namespace std::string_view_literals;

namespace {

constexpr std::uint64_t kSector = 512;

// Lines between BEGIN and END; several may follow each other.
Measured measure_cards(Reader& content, std::string_view begin, std::string_view finish, std::string_view must) {
    std::uint64_t at = 0;
    std::uint64_t end = 0;
    const std::uint64_t limit = end_of_characters(content, 0);
    while (content.has(at, begin)) {
        const auto mark = content.find(finish, at, limit);
        if (!mark || !content.find(must, at, *mark)) break;
        end = behind_line_end(content, *mark + finish.size());
        at = end;
        while (at < limit && is_space(content.u8(at))) ++at;
    }
    if (end == 0)
        return limit >= kSector && content.find(must, 0, limit) ? broken(limit, "its end is missing") : nonsense();
    return whole(end, Proof::chain);
}

Measured measure_ics(Reader& content) { return measure_cards(content, "BEGIN:VCALENDAR", "END:VCALENDAR", "VERSION:"); }
Measured measure_vcf(Reader& content) { return measure_cards(content, "BEGIN:VCARD", "END:VCARD", "VERSION:"); }
Description describe_ics(Reader& content, std::uint64_t length) {
    std::string title = between(content, "X-WR-CALNAME:", "\n", length);
    if (title.empty()) title = between(content, "SUMMARY:", "\n", length);
    return {title, {}, {}};
}
Description describe_vcf(Reader& content, std::uint64_t length) {
    return {between(content, "FN:", "\n", length), {}, {}};
}

}  // namespace

std::vector<Format> card_formats() {
    return {
        {.name = "ics",
         .kind = Kind::document,
         .extensions = {"ics"},
         .signatures = {{{0, "BEGIN:VCALENDAR"sv}}},
         .is_text = true,
         .measure = measure_ics,
         .describe = describe_ics,
         .ending = "its end line",
         .checked = "the lines between"},
        {.name = "vcf",
         .kind = Kind::document,
         .extensions = {"vcf"},
         .signatures = {{{0, "BEGIN:VCARD"sv}}},
         .is_text = true,
         .measure = measure_vcf,
         .describe = describe_vcf,
         .ending = "the end line of the last card",
         .checked = "the lines between"},
    };
}

}  // namespace dredger::formats
