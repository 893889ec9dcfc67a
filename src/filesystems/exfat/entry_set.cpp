#include "filesystems/exfat/entry_set.h"

#include <algorithm>

namespace dredger::exfat {
namespace {

constexpr std::size_t kUnitsPerEntry = 15;

void take_file(const FileEntry& entry, EntrySet& set) {
    set.attributes = entry.FileAttributes;
    set.created = exfat_time(entry.CreateTimestamp, entry.Create10msIncrement, entry.CreateUtcOffset);
    set.modified =
        exfat_time(entry.LastModifiedTimestamp, entry.LastModified10msIncrement, entry.LastModifiedUtcOffset);
    set.accessed = exfat_time(entry.LastAccessedTimestamp, 0, entry.LastAccessedUtcOffset);
}

// `slots` begins with a stream extension; the pieces of the name that still follow it are taken too. Tells how many
// entries belong to it.
std::size_t take_stream_and_name(const Slot* slots, std::size_t count, const Upcase& upcase, EntrySet& set) {
    const auto stream = slots[0].as<StreamExtensionEntry>();
    set.no_fat_chain = (stream.GeneralSecondaryFlags & kNoFatChain) != 0;
    set.first_cluster = stream.FirstCluster;
    set.valid_length = stream.ValidDataLength;
    set.length = stream.DataLength;
    const std::size_t pieces = (stream.NameLength + kUnitsPerEntry - 1) / kUnitsPerEntry;
    std::size_t taken = 1;
    for (; taken <= pieces && taken < count; ++taken) {
        const Slot& slot = slots[taken];
        if (slot.live_type() != kFileName || slot.in_use() != slots[0].in_use()) break;
        const auto piece = slot.as<FileNameEntry>();
        for (std::size_t i = 0; i < kUnitsPerEntry && set.name.size() < stream.NameLength; ++i)
            set.name += static_cast<char16_t>(piece.FileName[2 * i] | piece.FileName[2 * i + 1] << 8U);
    }
    set.name_is_whole = set.name.size() == stream.NameLength && stream.NameLength > 0;
    set.name_agrees = set.name_is_whole && upcase.hash(set.name) == stream.NameHash;
    return taken;
}

}  // namespace

std::uint16_t set_checksum(const Slot* slots, std::size_t count) {
    std::uint16_t sum = 0;
    for (std::size_t n = 0; n < count; ++n) {
        for (std::size_t i = 0; i < kEntrySize; ++i) {
            if (n == 0 && (i == 2 || i == 3)) continue;
            const unsigned byte = i == 0 ? slots[n].live_type() : slots[n].bytes[i];
            sum = static_cast<std::uint16_t>(static_cast<std::uint16_t>(sum << 15U | sum >> 1U) + byte);
        }
    }
    return sum;
}

std::vector<Slot> slots_in(ByteView bytes) {
    std::vector<Slot> slots(bytes.size() / kEntrySize);
    for (std::size_t i = 0; i < slots.size(); ++i) {
        std::memcpy(slots[i].bytes, bytes.bytes().data() + i * kEntrySize, kEntrySize);
        slots[i].offset = bytes.origin() + i * kEntrySize;
    }
    return slots;
}

std::vector<EntrySet> read_sets(const std::vector<Slot>& slots, const Upcase& upcase) {
    std::vector<EntrySet> sets;
    bool behind_end = false;
    for (std::size_t at = 0; at < slots.size();) {
        const Slot& slot = slots[at];
        const std::size_t left = slots.size() - at;
        if (slot.type() == kEndOfDirectory) behind_end = true;
        EntrySet set;
        set.offset = slot.offset;
        set.deleted = !slot.in_use() || behind_end;
        set.behind_end = behind_end;
        std::size_t length = 1;
        if (slot.live_type() == kFile && left >= 2 && slots[at + 1].live_type() == kStreamExtension &&
            slots[at + 1].in_use() == slot.in_use()) {
            const auto file = slot.as<FileEntry>();
            take_file(file, set);
            length = 1 + take_stream_and_name(&slots[at + 1], std::min(left - 1, kLongestSet - 1), upcase, set);
            const std::size_t told = file.SecondaryCount + std::size_t{1};
            set.checksum_agrees = told <= left && told <= kLongestSet && set_checksum(&slot, told) == file.SetChecksum;
            if (set.checksum_agrees) length = told;
        } else if (slot.live_type() == kStreamExtension) {
            set.has_file = false;
            set.checksum_agrees = false;
            length = take_stream_and_name(&slot, std::min(left, kLongestSet - 1), upcase, set);
        } else {
            ++at;
            continue;
        }
        at += length;
        // Behind the end, and where the start is lost, only proof counts.
        if ((set.behind_end || !set.has_file) && !set.is_proven()) continue;
        if (!set.name.empty()) sets.push_back(std::move(set));
    }
    return sets;
}

}  // namespace dredger::exfat
