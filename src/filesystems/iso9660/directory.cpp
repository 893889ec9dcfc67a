#include "filesystems/iso9660/directory.h"

#include <algorithm>
#include <ctime>
#include <functional>

#include "base/checked.h"
#include "base/text.h"

namespace dredger::iso9660 {
namespace {

constexpr unsigned kMaxContinuations = 32;

// 9.1.5
std::optional<FileTime> recorded_time(const std::uint8_t* date) {
    std::tm parts{};
    parts.tm_year = date[0];
    parts.tm_mon = date[1] - 1;
    parts.tm_mday = date[2];
    parts.tm_hour = date[3];
    parts.tm_min = date[4];
    parts.tm_sec = date[5];
    if (date[1] < 1 || date[1] > 12 || date[2] < 1 || date[2] > 31 || date[3] > 23 || date[4] > 59 || date[5] > 59)
        return std::nullopt;
    constexpr std::int64_t kQuarter = 900;  // seconds
    return FileTime{::timegm(&parts) - static_cast<std::int8_t>(date[6]) * kQuarter, 0, FileTime::Clock::utc};
}

// 8.4.26.1: seventeen digits and a zone.
std::optional<FileTime> digits_time(ByteView view) {
    const auto bytes = view.slice(0, 17);
    if (!bytes) return std::nullopt;
    const auto number = [&](std::size_t at, std::size_t count) {
        int value = 0;
        for (std::size_t i = at; i < at + count; ++i) value = value * 10 + (static_cast<int>(bytes->bytes()[i]) - '0');
        return value;
    };
    std::uint8_t date[7] = {};
    const int year = number(0, 4) - 1900;
    if (year < 0 || year > 255) return std::nullopt;
    date[0] = static_cast<std::uint8_t>(year);
    for (std::size_t i = 1; i < 6; ++i) date[i] = static_cast<std::uint8_t>(std::clamp(number(2 + 2 * i, 2), 0, 99));
    date[6] = static_cast<std::uint8_t>(bytes->bytes()[16]);
    return recorded_time(date);
}

// Each entry of a System Use area and of the areas that continue it: its two letters, and its bytes from these on.
void each_system_use(const Medium& volume, ByteView area, std::uint64_t block,
                     const std::function<void(std::string_view, ByteView)>& visit) {
    std::vector<std::byte> continued;
    for (unsigned n = 0; n < kMaxContinuations; ++n) {
        std::optional<Extent> next;
        for (std::size_t at = 0; at + 4 <= area.size();) {
            const std::size_t length = *area.u8(at + 2);
            if (length < 4 || at + length > area.size()) break;
            const ByteView entry = *area.slice(at, length);
            const std::string letters = {static_cast<char>(*area.u8(at)), static_cast<char>(*area.u8(at + 1))};
            if (letters == "ST") break;
            if (letters == "CE" && length >= 28)
                next = Extent{*entry.u32le(4) * block + *entry.u32le(12), *entry.u32le(20)};
            else
                visit(letters, entry);
            at += length;
        }
        constexpr std::uint64_t kLongest = 64 << 10;
        if (!next || next->length > kLongest || !lies_within(next->offset, next->length, volume.size())) return;
        auto bytes = volume.bytes(next->offset, static_cast<std::size_t>(next->length));
        if (!bytes) return;
        continued = std::move(*bytes);
        area = ByteView(continued, next->offset);
    }
}

std::string text_of(ByteView view, std::size_t from) {
    if (from >= view.size()) return {};
    const auto bytes = view.bytes().subspan(from);
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

// P1282 4.1.3: the components of a symbolic link.
void add_link(ByteView entry, std::string& target) {
    enum : unsigned { kContinue = 1, kCurrent = 2, kParent = 4, kRoot = 8 };
    bool goes_on = target.ends_with('/');  // the next one goes on with this component
    for (std::size_t at = 5; at + 2 <= entry.size();) {
        const unsigned flags = *entry.u8(at);
        const std::size_t length = *entry.u8(at + 1);
        const auto part = entry.slice(at + 2, length);
        if (!part) return;
        if ((flags & kRoot) != 0)
            target.clear();
        else if (!target.empty() && !goes_on)
            target += '/';
        if ((flags & kRoot) != 0)
            target += '/';
        else if ((flags & kParent) != 0)
            target += "..";
        else if ((flags & kCurrent) != 0)
            target += '.';
        else
            target += text_of(*part, 0);
        goes_on = (flags & kContinue) != 0 || (flags & kRoot) != 0;
        at += 2 + length;
    }
}

void add_rock_ridge(const Medium& volume, ByteView area, std::uint64_t block, Entry& entry) {
    std::string name;
    each_system_use(volume, area, block, [&](std::string_view letters, ByteView use) {
        if (letters == "NM" && use.size() >= 5) name += text_of(use, 5);
        if (letters == "PX" && use.size() >= 36) {
            entry.mode = *use.u32le(4);
            entry.uid = *use.u32le(20);
            entry.gid = *use.u32le(28);
        }
        if (letters == "SL") add_link(use, entry.target);
        if (letters == "CL" && use.size() >= 12) entry.child_link = *use.u32le(4);
        if (letters == "RE") entry.was_moved = true;
        if (letters == "TF" && use.size() >= 5) {
            const unsigned flags = *use.u8(4);
            const bool is_long = (flags & 0x80U) != 0;
            std::size_t at = 5;
            std::optional<FileTime>* const times[] = {&entry.created, &entry.modified, &entry.accessed, &entry.changed};
            for (unsigned bit = 0; bit < 7; ++bit) {
                if ((flags >> bit & 1U) == 0) continue;
                const auto stamp = use.slice(at, is_long ? 17 : 7);
                if (!stamp) break;
                if (bit < 4)
                    *times[bit] = is_long ? digits_time(*stamp)
                                          : recorded_time(reinterpret_cast<const std::uint8_t*>(stamp->bytes().data()));
                at += is_long ? 17 : 7;
            }
        }
    });
    if (!name.empty()) entry.name = name;
}

std::string name_of(ByteView identifier, Naming naming) {
    std::string name;
    if (naming == Naming::joliet) {
        std::u16string text;
        for (std::size_t i = 0; i + 1 < identifier.size(); i += 2)
            text += static_cast<char16_t>(*identifier.u8(i) << 8U | *identifier.u8(i + 1));
        name = utf16_to_utf8(text);
    } else {
        name = code_page_to_utf8(identifier.bytes(), CodePage::cp850);
    }
    // "NAME.EXT;1"
    if (const auto version = name.rfind(';'); version != name.npos && version > 0) name.resize(version);
    if (name.size() > 1 && name.ends_with('.')) name.pop_back();
    return name;
}

struct Located {
    DirectoryRecord record;
    ByteView identifier;
    ByteView system_use;
    std::uint64_t place;
};

// The records of a directory; none of them reaches over the end of a sector.
template <class Visit>
void each_record(ByteView content, std::uint64_t at, Visit visit) {
    for (std::size_t from = 0; from < content.size();) {
        const std::size_t sector_end = std::min<std::size_t>((from / kSector + 1) * kSector, content.size());
        const auto record = content.as<DirectoryRecord>(from);
        if (!record || record->length == 0 || from + record->length > sector_end) {
            from = sector_end;
            continue;
        }
        const std::size_t name_length = record->length_of_file_identifier;
        const auto identifier = content.slice(from + sizeof(DirectoryRecord), name_length);
        std::size_t use_at = sizeof(DirectoryRecord) + name_length + (name_length % 2 == 0 ? 1 : 0);
        if (identifier && record->length >= sizeof(DirectoryRecord) + name_length && name_length > 0) {
            use_at = std::min<std::size_t>(use_at, record->length);
            if (!visit(
                    Located{*record, *identifier, *content.slice(from + use_at, record->length - use_at), at + from}))
                return;
        }
        from += record->length;
    }
}

bool is_self_or_parent(ByteView identifier) { return identifier.size() == 1 && *identifier.u8(0) <= 1; }

}  // namespace

std::optional<std::size_t> rock_ridge_skip(const Medium& volume, ByteView content, std::uint64_t block) {
    std::optional<std::size_t> skip;
    each_record(content, 0, [&](const Located& self) {
        bool uses = false;
        std::size_t skipped = 0;
        each_system_use(volume, self.system_use, block, [&](std::string_view letters, ByteView use) {
            if (letters == "SP" && use.has(4, "\xBE\xEF") && use.size() >= 7) skipped = *use.u8(6);
            if (letters == "PX" || letters == "RR" || letters == "ER") uses = true;
        });
        if (uses) skip = skipped;
        return false;
    });
    return skip;
}

std::vector<Entry> read_directory(const Medium& volume, ByteView content, std::uint64_t at, std::uint64_t block,
                                  Naming naming, std::size_t susp_skip) {
    std::vector<Entry> entries;
    bool goes_on = false;  // the last one has further extents
    each_record(content, at, [&](const Located& located) {
        if (is_self_or_parent(located.identifier)) return true;
        const DirectoryRecord& record = located.record;
        const std::uint64_t start =
            (std::uint64_t{record.location_of_extent.little} + record.extended_attribute_record_length) * block;
        const Extent extent{start, record.data_length.little};
        if (goes_on && !entries.empty()) {
            entries.back().extents.push_back(extent);
            entries.back().size += extent.length;
            goes_on = (record.file_flags & kMultiExtent) != 0;
            return true;
        }
        Entry entry;
        entry.name = name_of(located.identifier, naming);
        entry.is_folder = (record.file_flags & kDirectory) != 0;
        entry.is_hidden = (record.file_flags & kHidden) != 0;
        entry.size = extent.length;
        if (extent.length > 0) entry.extents.push_back(extent);
        entry.recorded = recorded_time(record.recording_date);
        entry.place = located.place;
        if (naming == Naming::rock_ridge) {
            const std::size_t skip = std::min(susp_skip, located.system_use.size());
            add_rock_ridge(volume, *located.system_use.slice(skip, located.system_use.size() - skip), block, entry);
        }
        goes_on = (record.file_flags & kMultiExtent) != 0;
        entries.push_back(std::move(entry));
        return true;
    });
    return entries;
}

}  // namespace dredger::iso9660
