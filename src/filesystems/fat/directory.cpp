#include "filesystems/fat/directory.h"

#include <algorithm>
#include <bit>

namespace dredger::fat {
namespace {

LongNameEntry as_long(const DirectoryEntry& entry) { return std::bit_cast<LongNameEntry>(entry); }

ShortName name_of(const DirectoryEntry& entry) { return std::to_array(entry.DIR_Name); }

// The up to 13 characters of one piece. `ended`: the name's terminator stands in it.
struct Piece {
    std::u16string text;
    bool ended = false;
};

Piece piece_of(const LongNameEntry& entry) {
    Piece piece;
    const auto add = [&](const auto& units) {
        for (const auto& unit : units) {
            if (unit == 0) piece.ended = true;
            if (!piece.ended) piece.text += static_cast<char16_t>(unit.value());
        }
    };
    add(entry.LDIR_Name1);
    add(entry.LDIR_Name2);
    add(entry.LDIR_Name3);
    return piece;
}

bool is_long_slot(const DirectoryEntry& entry, std::uint8_t sum) {
    if (!entry.is_long_name()) return false;
    const LongNameEntry piece = as_long(entry);
    return piece.LDIR_Type == 0 && piece.LDIR_FstClusLO == 0 && piece.LDIR_Chksum == sum;
}

// The long name before the live short entry `slots[at]`: pieces in order, each with its ordinal.
void take_live_long_name(std::span<const Slot> slots, std::size_t at, DirectoryItem& item) {
    const std::uint8_t sum = checksum(item.short_name);
    std::u16string name;
    for (unsigned ordinal = 1; ordinal <= at; ++ordinal) {
        const DirectoryEntry& entry = slots[at - ordinal].entry;
        if (entry.DIR_Name[0] == kEntryFree || !is_long_slot(entry, sum)) return;
        const LongNameEntry piece = as_long(entry);
        if ((piece.LDIR_Ord & ~LAST_LONG_ENTRY) != ordinal) return;
        name += piece_of(piece).text;
        if ((piece.LDIR_Ord & LAST_LONG_ENTRY) == 0) continue;
        if (!is_long_name(name)) return;
        item.long_name = std::move(name);
        item.long_state = LongName::whole;
        return;
    }
}

// The long name before the deleted short entry `slots[at]`. The pieces have lost their ordinals, but not their order
// and their checksum, from which the short name's lost first byte follows too.
void take_deleted_long_name(std::span<const Slot> slots, std::size_t at, DirectoryItem& item) {
    if (at == 0 || !slots[at - 1].entry.is_long_name() || slots[at - 1].entry.DIR_Name[0] != kEntryFree) return;
    const std::uint8_t sum = as_long(slots[at - 1].entry).LDIR_Chksum;
    std::u16string name;
    bool ended = false;
    for (std::size_t before = at; before-- > 0 && !ended && name.size() <= kLongest;) {
        const DirectoryEntry& entry = slots[before].entry;
        if (entry.DIR_Name[0] != kEntryFree || !is_long_slot(entry, sum)) break;
        Piece piece = piece_of(as_long(entry));
        name += piece.text;
        ended = piece.ended;
    }
    ShortName whole = item.short_name;
    whole[0] = first_byte_for(whole, sum);
    if (!can_begin(whole[0]) || !is_long_name(name)) return;

    // A name of exactly 13, 26, ... characters has no terminator; its extension then shows whether it is all there.
    if (ended || fits(name, whole)) {
        if (!fits(name, whole)) return;
        item.long_state = LongName::whole;
    } else {
        const auto start = name.substr(0, name.rfind(u'.'));
        ShortName without_extension = whole;
        std::fill(without_extension.begin() + 8, without_extension.end(), std::uint8_t{' '});
        if (!fits(start, without_extension)) return;
        item.long_state = LongName::cut;
    }
    item.short_name = whole;
    item.first_known = true;
    item.long_name = std::move(name);
}

bool is_date(std::uint16_t date) { return date == 0 || fat_time(date).has_value(); }

bool is_dot(const DirectoryEntry& entry) {
    static constexpr ShortName kDot = {'.', ' ', ' ', ' ', ' ', ' ', ' ', ' ', ' ', ' ', ' '};
    static constexpr ShortName kDotDot = {'.', '.', ' ', ' ', ' ', ' ', ' ', ' ', ' ', ' ', ' '};
    const ShortName name = name_of(entry);
    return name == kDot || name == kDotDot;
}

}  // namespace

std::optional<FileTime> created(const DirectoryEntry& e) {
    return fat_time(e.DIR_CrtDate, e.DIR_CrtTime, e.DIR_CrtTimeTenth);
}

std::optional<FileTime> modified(const DirectoryEntry& e) { return fat_time(e.DIR_WrtDate, e.DIR_WrtTime); }

std::optional<FileTime> written(const DirectoryEntry& e) {
    const auto time = created(e);
    return time ? time : modified(e);
}

bool makes_sense(const DirectoryEntry& entry, bool with_first) {
    const bool label = (entry.DIR_Attr & ATTR_VOLUME_ID) != 0;
    return (entry.DIR_Attr & 0xC0) == 0 && !(label && entry.is_folder()) &&
           (entry.DIR_NTRes & ~(kLowerCaseBase | kLowerCaseExtension)) == 0 && entry.DIR_CrtTimeTenth < 200 &&
           (!entry.is_folder() || entry.DIR_FileSize == 0) && is_short_name(name_of(entry), with_first) &&
           is_date(entry.DIR_WrtDate) && is_date(entry.DIR_CrtDate) && is_date(entry.DIR_LstAccDate) &&
           // An entry without a name behind its lost first character, a date and content was hardly ever one.
           !(!with_first && entry.DIR_WrtDate == 0 && entry.DIR_FileSize == 0 && entry.first_cluster() == 0);
}

std::vector<DirectoryItem> read_items(std::span<const Slot> slots) {
    std::vector<DirectoryItem> items;
    bool behind_end = false;
    for (std::size_t at = 0; at < slots.size(); ++at) {
        const DirectoryEntry& entry = slots[at].entry;
        if (entry.DIR_Name[0] == kEntryEnd) behind_end = true;
        if (entry.DIR_Name[0] == kEntryEnd || entry.is_long_name() || is_dot(entry)) continue;
        const bool marked = entry.DIR_Name[0] == kEntryFree;
        DirectoryItem item;
        item.offset = slots[at].offset;
        item.entry = entry;
        item.short_name = name_of(entry);
        item.first_known = !marked;
        item.behind_end = behind_end;
        item.deleted = marked || behind_end;
        if (item.deleted && !makes_sense(entry, !marked)) continue;
        if (!item.deleted && !can_begin(entry.DIR_Name[0])) continue;
        if (marked)
            take_deleted_long_name(slots, at, item);
        else
            take_live_long_name(slots, at, item);
        items.push_back(std::move(item));
    }
    return items;
}

bool continues_directory(std::span<const Slot> cluster) {
    if (cluster.empty() || is_dot(cluster.front().entry)) return false;
    bool ended = false;
    std::size_t entries = 0;
    for (const Slot& slot : cluster) {
        const DirectoryEntry& entry = slot.entry;
        if (entry.DIR_Name[0] == kEntryEnd) {
            ended = true;
            continue;
        }
        if (ended) return false;
        if (entry.is_long_name()) {
            const LongNameEntry piece = as_long(entry);
            const unsigned ordinal = piece.LDIR_Ord & ~LAST_LONG_ENTRY;
            const bool marked = piece.LDIR_Ord == kEntryFree;
            if (piece.LDIR_Type != 0 || piece.LDIR_FstClusLO != 0 ||
                (!marked && (ordinal == 0 || ordinal > kMostNamePieces)))
                return false;
        } else if (!makes_sense(entry, entry.DIR_Name[0] != kEntryFree)) {
            return false;
        }
        ++entries;
    }
    return entries > 0;
}

std::optional<DotEntries> dot_entries(std::span<const Slot> cluster) {
    if (cluster.size() < 2) return std::nullopt;
    const DirectoryEntry& self = cluster[0].entry;
    const DirectoryEntry& parent = cluster[1].entry;
    if (!is_dot(self) || !is_dot(parent) || self.DIR_Name[1] != ' ' || parent.DIR_Name[1] != '.') return std::nullopt;
    if (!self.is_folder() || !parent.is_folder()) return std::nullopt;
    return DotEntries{self.first_cluster(), parent.first_cluster()};
}

}  // namespace dredger::fat
