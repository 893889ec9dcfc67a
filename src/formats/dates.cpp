#include "formats/dates.h"

#include <charconv>
#include <string>

namespace dredger::formats {
namespace {

bool is_digit(char c) { return c >= '0' && c <= '9'; }

// "+02:00", "-0130", "+02'00'", "Z": seconds east of UTC. Nothing where no zone is told.
std::optional<std::int64_t> zone_of(std::string_view text) {
    if (text.empty()) return std::nullopt;
    if (text.front() == 'Z') return 0;
    if (text.front() != '+' && text.front() != '-') return std::nullopt;
    unsigned value[2] = {};
    std::size_t at = 1;
    for (unsigned& field : value) {
        if (at + 2 > text.size() || !is_digit(text[at]) || !is_digit(text[at + 1])) break;
        (void)std::from_chars(text.data() + at, text.data() + at + 2, field);
        at += 2;
        if (at < text.size() && !is_digit(text[at])) ++at;
    }
    const std::int64_t seconds = (std::int64_t{value[0]} * 60 + value[1]) * 60;
    return text.front() == '-' ? -seconds : seconds;
}

std::optional<FileTime> moment(const std::string& digits, std::optional<std::int64_t> zone) {
    const auto typed = parse_time(digits);
    if (!typed) return std::nullopt;
    return FileTime{typed->first - zone.value_or(0), 0, zone ? FileTime::Clock::utc : FileTime::Clock::local};
}

}  // namespace

std::optional<FileTime> xml_date(std::string_view text) {
    constexpr std::size_t kDay = 10, kToTheSecond = 19;
    while (!text.empty() && (text.front() == ' ' || text.front() == '\n')) text.remove_prefix(1);
    if (text.size() < kToTheSecond || text[kDay] != 'T') return moment(std::string(text.substr(0, kDay)), std::nullopt);
    std::string_view rest = text.substr(kToTheSecond);
    if (!rest.empty() && (rest.front() == '.' || rest.front() == ',')) {
        rest.remove_prefix(1);
        while (!rest.empty() && is_digit(rest.front())) rest.remove_prefix(1);
    }
    return moment(std::string(text.substr(0, kToTheSecond)), zone_of(rest));
}

std::optional<FileTime> exif_time(std::string_view text) {
    constexpr std::size_t kToTheSecond = 19;
    if (text.size() < kToTheSecond) return std::nullopt;
    std::string iso(text.substr(0, kToTheSecond));
    iso[4] = iso[7] = '-';
    return moment(iso, std::nullopt);
}

std::optional<FileTime> pdf_date(std::string_view text) {
    if (text.starts_with("D:")) text.remove_prefix(2);
    static constexpr std::string_view kBefore[] = {"", "-", "-", "T", ":", ":"};
    std::string digits;
    std::size_t at = 0;
    for (std::size_t field = 0; field < std::size(kBefore); ++field) {
        const std::size_t width = field == 0 ? 4 : 2;
        if (at + width > text.size() || !is_digit(text[at])) break;
        digits += kBefore[field];
        digits += text.substr(at, width);
        at += width;
    }
    constexpr std::size_t kHourAlone = 13;
    if (digits.size() == kHourAlone) digits += ":00";
    return moment(digits, zone_of(text.substr(at)));
}

}  // namespace dredger::formats
