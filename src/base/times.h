// Times as media store them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace dredger {

// A moment as a file system wrote it. Some file systems keep the digits of a local clock without its zone: then
// `seconds` counts as if those digits were UTC, and `clock` says that they may not be.
struct FileTime {
    enum class Clock { utc, local };

    std::int64_t seconds = 0;       // since 1970-01-01T00:00:00
    std::uint32_t nanoseconds = 0;  // 0 .. 999,999,999
    Clock clock = Clock::utc;

    auto operator<=>(const FileTime& other) const {
        return seconds != other.seconds ? seconds <=> other.seconds : nanoseconds <=> other.nanoseconds;
    }
    bool operator==(const FileTime& other) const {
        return seconds == other.seconds && nanoseconds == other.nanoseconds;
    }
};

// A FAT date and time (Microsoft FAT specification, "Date and Time Formats"): days in `date`, steps of 2 s in `time`,
// steps of 10 ms in `tenths` (0..199). Nothing for a zero date or a day that no calendar has.
std::optional<FileTime> fat_time(std::uint16_t date, std::uint16_t time = 0, std::uint8_t tenths = 0);

// A FILETIME of Windows and NTFS ([MS-DTYP] 2.3.3): steps of 100 ns since 1601-01-01 UTC. Nothing for 0 and for what
// lies after the year 9999.
std::optional<FileTime> windows_time(std::uint64_t steps);

// An exFAT timestamp (Microsoft exFAT specification, 7.4.5 to 7.4.10): a FAT date in the high half of `stamp`, a FAT
// time in the low one, steps of 10 ms, and the zone: where bit 7 of `utc_offset` is set, its other bits are quarters of
// an hour east of UTC.
std::optional<FileTime> exfat_time(std::uint32_t stamp, std::uint8_t tenths, std::uint8_t utc_offset);

// "2026-05-03T09:12:44Z", with decimals only where there are any, and without the Z where the zone is not known.
std::string iso8601(const FileTime& time);
// What iso8601() wrote, to the second; nothing where it is no such text.
std::optional<FileTime> parse_iso8601(std::string_view text);

// "2026-05-03 09:12 UTC", to keep; without the zone where that is not known.
std::string short_time(const FileTime& time);

// The same moment in the digits of this machine's zone (the environment's TZ); where the zone of `time` is not known,
// as it is.
FileTime in_local_digits(const FileTime& time);
// The moment, in seconds since 1970 UTC, at which this machine's clock shows the digits of `seconds`.
std::int64_t utc_of_local_digits(std::int64_t seconds);
// Behind the digits of a clock whose zone is not known.
inline constexpr char kZonelessMark = '~';
// "2026-05-03 09:12" on this machine's clock, for people to read now; or "2026-05-03 09:12~".
std::string shown_time(const FileTime& time);

// A day or a moment that a person typed: YYYY, YYYY-MM, YYYY-MM-DD or YYYY-MM-DD[T ]HH:MM[:SS]. `first` and `last` are
// the first and last second that it can mean.
struct TypedTime {
    std::int64_t first = 0;
    std::int64_t last = 0;
};
std::optional<TypedTime> parse_time(std::string_view text);

}  // namespace dredger
