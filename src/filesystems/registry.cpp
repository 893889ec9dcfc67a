#include "filesystems/apfs/apfs.h"
#include "filesystems/btrfs/btrfs.h"
#include "filesystems/exfat/exfat.h"
#include "filesystems/ext/ext.h"
#include "filesystems/f2fs/f2fs.h"
#include "filesystems/fat/fat.h"
#include "filesystems/filesystem.h"
#include "filesystems/hfsplus/hfsplus.h"
#include "filesystems/iso9660/iso9660.h"
#include "filesystems/leftover.h"
#include "filesystems/ntfs/ntfs.h"
#include "filesystems/udf/udf.h"
#include "filesystems/xfs/xfs.h"

namespace dredger {
namespace {

constexpr FileSystemKind kKinds[] = {
    {"FAT", fat::open, {510, "\x55\xAA", fat::trace}, fat::infer, fat::former},
    {"NTFS", ntfs::open, {3, "NTFS    ", ntfs::trace}, ntfs::infer},
    {"exFAT", exfat::open, {3, "EXFAT   ", exfat::trace}, nullptr, exfat::former},
    {"ext2, ext3, ext4", ext::open, {0x38, "\x53\xEF", ext::trace}},
    {"XFS", xfs::open, {0, "XFSB", xfs::trace}},
    {"F2FS", f2fs::open, {0, "\x10\x20\xF5\xF2", f2fs::trace}},
    {"Btrfs", btrfs::open, {0x40, "_BHRfS_M", btrfs::trace}},
    {"ISO 9660", iso9660::open, {1, "CD001", iso9660::trace}},
    {"UDF", udf::open, {0, std::string_view("\x02\0", 2), udf::trace}},
    {"HFS+", hfsplus::open, {0, "H", hfsplus::trace}},
    {"APFS", apfs::open, {32, "NXSB", apfs::trace}},
};

std::vector<FileSystemKind>& kinds() {
    static std::vector<FileSystemKind> list(std::begin(kKinds), std::end(kKinds));
    return list;
}

std::unique_ptr<FileSystem> of_kind(const FileSystemKind& kind, std::unique_ptr<FileSystem> found) {
    found->set_kind(kind);
    return found;
}

// Whether a file system begins here that can't be read.
bool is_recognised_elsewhere(const Medium& volume) {
    constexpr std::uint64_t kHead = 68 << 10, kSector = 512;  // bytes
    const auto head = bytes_at(volume, 0, static_cast<std::size_t>(std::min(kHead, volume.size())));
    if (!head) return false;
    for (std::size_t at = 0; at + kSector <= head->size(); at += kSector)
        for (const FileSystemKind& kind : all_filesystem_kinds())
            if (kind.open == nullptr && kind.trace.look(volume, at, ByteView(std::span(*head).subspan(at), at)))
                return true;
    return false;
}

}  // namespace

std::span<const FileSystemKind> all_filesystem_kinds() { return kinds(); }

void add_filesystem_kind(const FileSystemKind& kind) { kinds().push_back(kind); }

Result<std::unique_ptr<FileSystem>> open_filesystem(const MediumPtr& volume) {
    for (const FileSystemKind& kind : all_filesystem_kinds()) {
        if (kind.open == nullptr) continue;
        DREDGER_TRY(std::unique_ptr<FileSystem> found, kind.open(volume));
        if (found) return of_kind(kind, std::move(found));
    }
    return nullptr;
}

Result<std::unique_ptr<FileSystem>> open_or_infer(const MediumPtr& volume) {
    auto opened = open_filesystem(volume);
    if (!opened || *opened || volume->size() == 0 || is_recognised_elsewhere(*volume)) return opened;
    for (const FileSystemKind& kind : all_filesystem_kinds()) {
        if (kind.infer == nullptr) continue;
        // What is inferred is no claim that something must be there.
        auto found = kind.infer(volume);
        if (found && *found) return of_kind(kind, std::move(*found));
    }
    return nullptr;
}

std::vector<std::unique_ptr<FileSystem>> former_filesystems(const MediumPtr& volume, const FileSystem& today) {
    const auto left = std::make_shared<Leftover>(volume, today.space());
    std::vector<std::unique_ptr<FileSystem>> list;
    for (const FileSystemKind& kind : all_filesystem_kinds()) {
        if (kind.open == nullptr || &kind == today.kind()) continue;
        auto found = kind.open(left);
        if ((!found || !*found) && kind.infer != nullptr) found = kind.infer(left);
        if ((!found || !*found) && kind.former != nullptr) found = kind.former(left, today.space());
        if (found && *found) list.push_back(of_kind(kind, std::move(*found)));
    }
    return list;
}

std::vector<Tracer> all_tracers() {
    std::vector<Tracer> tracers;
    for (const FileSystemKind& kind : all_filesystem_kinds()) tracers.push_back(kind.trace);
    return tracers;
}

}  // namespace dredger
