#include "filesystems/ntfs/index_slack.h"

#include "filesystems/ntfs/fixups.h"

namespace dredger::ntfs {
namespace {

constexpr std::size_t kAlignment = 8;

// Times that no computer had before NTFS was there, or will have soon, are no times. Archives keep older ones.
bool is_plausible(std::uint64_t time) {
    constexpr std::int64_t kFirst = 0;             // 1970
    constexpr std::int64_t kLast = 4'102'444'800;  // 2100
    const auto moment = windows_time(time);
    return moment && moment->seconds >= kFirst && moment->seconds < kLast;
}

// What no chance makes: three times, sizes that go together, and a name without control characters and separators.
bool makes_sense(const FileName& on_disk, const Name& name) {
    constexpr std::uint32_t kKnownAttributes = 0x3007'FFF7;
    const auto odd = [](char c) { return static_cast<unsigned char>(c) < 0x20 || c == '/' || c == '\\' || c == ':'; };
    const bool sizes_fit = on_disk.AllocatedLength % 8 == 0 && on_disk.FileSize < (std::uint64_t{1} << 48);
    return is_plausible(on_disk.LastChangeTime) && is_plausible(on_disk.LastAccessTime) && sizes_fit &&
           (on_disk.FileAttributes & ~kKnownAttributes) == 0 && name.text != "." &&
           std::none_of(name.text.begin(), name.text.end(), odd);
}

}  // namespace

void find_former_names(ByteView bytes, std::size_t from, Reference folder, std::vector<FormerName>& into) {
    for (std::size_t at = divide_up(from, kAlignment) * kAlignment; at + sizeof(FileName) < bytes.size();) {
        const auto on_disk = bytes.as<FileName>(at);
        const bool may_be = on_disk && on_disk->Flags <= FILE_NAME_WIN32_AND_DOS && on_disk->FileNameLength > 0 &&
                            is_plausible(on_disk->LastModificationTime);
        auto name = may_be ? parse_name(*bytes.slice(at, bytes.size() - at)) : std::nullopt;
        if (!name || !makes_sense(*on_disk, *name)) {
            at += kAlignment;
            continue;
        }
        // The mark of the end, which moves up when the last entry goes, covers the reference.
        const bool tells_folder =
            on_disk->ParentDirectory.SequenceNumber != 0 && on_disk->ParentDirectory.SegmentNumberHighPart == 0;
        if (!tells_folder) {
            name->parent.SegmentNumberLowPart = static_cast<std::uint32_t>(folder.number);
            name->parent.SegmentNumberHighPart = static_cast<std::uint16_t>(folder.number >> 32U);
            name->parent.SequenceNumber = folder.sequence;
            if (!is_plausible(on_disk->CreationTime)) name->created.reset();
        }
        FormerName found{std::move(*name), {}, false, bytes.origin() + at};
        const std::size_t length = sizeof(FileName) + std::size_t{on_disk->FileNameLength} * 2;
        if (tells_folder && at >= sizeof(IndexEntry)) {
            const auto entry = bytes.as<IndexEntry>(at - sizeof(IndexEntry));
            const bool has_reference =
                entry && entry->FileReference.SequenceNumber != 0 && entry->FileReference.SegmentNumberHighPart == 0;
            found.has_file =
                has_reference && entry->AttributeLength == length && entry->Length >= sizeof(IndexEntry) + length;
            if (found.has_file) found.file = reference_of(entry->FileReference);
        }
        if (found.name.space != FILE_NAME_DOS) into.push_back(std::move(found));
        at += divide_up(length, kAlignment) * kAlignment;
    }
}

void read_index_block(std::span<std::byte> block, std::uint64_t offset, Reference folder, IndexPart part,
                      std::vector<FormerName>& into) {
    if (!ByteView(block).has(0, "INDX") || apply_fixups(block) < block.size()) return;
    const ByteView view(block, offset);
    const auto header = view.as<IndexAllocationBuffer>(0);
    if (!header) return;
    constexpr std::size_t kIndexHeaderAt = 24;
    const std::size_t first = kIndexHeaderAt + header->Index.FirstIndexEntry;
    const std::size_t used = kIndexHeaderAt + header->Index.FirstFreeByte;
    if (first > block.size() || used > block.size()) return;
    // The end marker of the entries in use covers the start of the entry that stood there.
    find_former_names(view, part == IndexPart::all ? first : used, folder, into);
}

}  // namespace dredger::ntfs
