#include "base/times.h"

#include <charconv>
#include <chrono>
#include <ctime>
#include <fmt/compile.h>

namespace dredger {
namespace {

using namespace std::chrono;

std::optional<std::int64_t> seconds_of(int year_, unsigned month_, unsigned day_, unsigned h, unsigned m, unsigned s) {
    const year_month_day date{year{year_}, month{month_}, day{day_}};
    if (!date.ok() || h > 23 || m > 59 || s > 59) return std::nullopt;
    return duration_cast<seconds>(sys_days{date}.time_since_epoch()).count() + std::int64_t{h} * 3600 +
           std::int64_t{m} * 60 + s;
}

std::string digits(std::int64_t since_epoch, const char* between, bool with_seconds) {
    const sys_seconds moment{seconds{since_epoch}};
    const auto midnight = floor<days>(moment);
    const year_month_day date{midnight};
    const hh_mm_ss clock{moment - midnight};
    std::string out = fmt::format(FMT_COMPILE("{:04}-{:02}-{:02}{}{:02}:{:02}"), static_cast<int>(date.year()),
                                  static_cast<unsigned>(date.month()), static_cast<unsigned>(date.day()), between,
                                  clock.hours().count(), clock.minutes().count());
    if (with_seconds) out += fmt::format(FMT_COMPILE(":{:02}"), clock.seconds().count());
    return out;
}

}  // namespace

std::optional<FileTime> fat_time(std::uint16_t date, std::uint16_t time, std::uint8_t tenths) {
    if (tenths > 199) tenths = 0;
    const auto whole =
        seconds_of(1980 + (date >> 9), (date >> 5) & 15U, date & 31U, time >> 11, (time >> 5) & 63U, (time & 31U) * 2U);
    if (!whole) return std::nullopt;
    return FileTime{*whole + tenths / 100, static_cast<std::uint32_t>(tenths % 100) * 10'000'000U,
                    FileTime::Clock::local};
}

std::optional<FileTime> windows_time(std::uint64_t steps) {
    constexpr std::uint64_t kPerSecond = 10'000'000;
    constexpr std::int64_t kFrom1601To1970 = 11'644'473'600;  // seconds
    constexpr std::int64_t kEnd = 253'402'300'800;            // 10000-01-01
    const auto seconds_ = static_cast<std::int64_t>(steps / kPerSecond) - kFrom1601To1970;
    if (steps == 0 || seconds_ >= kEnd) return std::nullopt;
    return FileTime{seconds_, static_cast<std::uint32_t>(steps % kPerSecond) * 100U, FileTime::Clock::utc};
}

std::optional<FileTime> exfat_time(std::uint32_t stamp, std::uint8_t tenths, std::uint8_t utc_offset) {
    auto time = fat_time(static_cast<std::uint16_t>(stamp >> 16), static_cast<std::uint16_t>(stamp & 0xFFFFU), tenths);
    if (!time || (utc_offset & 0x80U) == 0) return time;
    const int quarters = (utc_offset & 0x40U) != 0 ? (utc_offset & 0x7F) - 0x80 : utc_offset & 0x7F;
    time->seconds -= std::int64_t{quarters} * 15 * 60;
    time->clock = FileTime::Clock::utc;
    return time;
}

std::string iso8601(const FileTime& time) {
    std::string out = digits(time.seconds, "T", true);
    if (time.nanoseconds != 0) {
        std::string decimals = fmt::format(FMT_COMPILE(".{:09}"), time.nanoseconds);
        out += decimals.substr(0, decimals.find_last_not_of('0') + 1);
    }
    return time.clock == FileTime::Clock::utc ? out + "Z" : out;
}

std::string short_time(const FileTime& time) {
    return digits(time.seconds, " ", false) + (time.clock == FileTime::Clock::utc ? " UTC" : "");
}

FileTime in_local_digits(const FileTime& time) {
    const std::time_t moment = time.seconds;
    std::tm parts{};
    if (time.clock == FileTime::Clock::local || ::localtime_r(&moment, &parts) == nullptr) return time;
    return {time.seconds + parts.tm_gmtoff, time.nanoseconds, FileTime::Clock::local};
}

std::int64_t utc_of_local_digits(std::int64_t seconds_) {
    const std::time_t moment = seconds_;
    std::tm parts{};
    if (::gmtime_r(&moment, &parts) == nullptr) return seconds_;
    parts.tm_isdst = -1;  // as it was on that day
    return ::mktime(&parts);
}

std::string shown_time(const FileTime& time) {
    std::string text = digits(in_local_digits(time).seconds, " ", false);
    if (time.clock == FileTime::Clock::local) text += kZonelessMark;
    return text;
}

std::optional<TypedTime> parse_time(std::string_view text) {
    // Each field with the separators that may stand before it.
    static constexpr std::string_view kBefore[] = {"", "-", "-", "T ", ":", ":"};
    static constexpr std::size_t kWidth[] = {4, 2, 2, 2, 2, 2};
    unsigned value[] = {0, 1, 1, 0, 0, 0};
    if (text.ends_with('Z')) text.remove_suffix(1);
    std::size_t fields = 0;
    for (; fields < 6 && !text.empty(); ++fields) {
        if (fields > 0) {
            if (kBefore[fields].find(text.front()) == std::string_view::npos) return std::nullopt;
            text.remove_prefix(1);
        }
        if (text.size() < kWidth[fields]) return std::nullopt;
        const char* end = text.data() + kWidth[fields];
        const auto [stop, error] = std::from_chars(text.data(), end, value[fields]);
        if (error != std::errc() || stop != end) return std::nullopt;
        text.remove_prefix(kWidth[fields]);
    }
    if (!text.empty() || fields == 0 || fields == 4) return std::nullopt;
    const auto first = seconds_of(static_cast<int>(value[0]), value[1], value[2], value[3], value[4], value[5]);
    if (!first) return std::nullopt;
    const year_month_day date{year{static_cast<int>(value[0])}, month{value[1]}, day{value[2]}};
    std::int64_t after = *first + 1;
    if (fields == 1) after = seconds_of(static_cast<int>(date.year()) + 1, 1, 1, 0, 0, 0).value_or(after);
    if (fields == 2) after = duration_cast<seconds>(sys_days{date + months{1}}.time_since_epoch()).count();
    if (fields == 3) after = *first + 86'400;
    if (fields == 5) after = *first + 60;
    return TypedTime{*first, after - 1};
}

std::optional<FileTime> parse_iso8601(std::string_view text) {
    constexpr std::size_t kToTheSecond = 19;
    if (text.size() < kToTheSecond) return std::nullopt;
    const auto typed = parse_time(text.substr(0, kToTheSecond));
    const auto clock = text.ends_with('Z') ? FileTime::Clock::utc : FileTime::Clock::local;
    return typed ? std::optional(FileTime{typed->first, 0, clock}) : std::nullopt;
}

}  // namespace dredger
