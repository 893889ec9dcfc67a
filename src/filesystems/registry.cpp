#include "filesystems/exfat/exfat.h"
#include "filesystems/fat/fat.h"
#include "filesystems/filesystem.h"
#include "filesystems/ntfs/ntfs.h"
#include "filesystems/unread.h"

namespace dredger {
namespace {

constexpr FileSystemKind kKinds[] = {
    {"FAT", fat::open, fat::trace},           {"NTFS", ntfs::open, ntfs::trace},
    {"exFAT", exfat::open, exfat::trace},     {"ext2, ext3, ext4", nullptr, unread::trace_ext},
    {"XFS", nullptr, unread::trace_xfs},      {"Btrfs", nullptr, unread::trace_btrfs},
    {"HFS+", nullptr, unread::trace_hfsplus}, {"APFS", nullptr, unread::trace_apfs},
};

}  // namespace

Result<std::unique_ptr<FileSystem>> open_filesystem(const MediumPtr& volume) {
    for (const FileSystemKind& kind : kKinds) {
        if (kind.open == nullptr) continue;
        DREDGER_TRY(std::unique_ptr<FileSystem> found, kind.open(volume));
        if (found) return found;
    }
    return nullptr;
}

std::span<const Tracer> all_tracers() {
    static const std::vector<Tracer> tracers = [] {
        std::vector<Tracer> list;
        for (const FileSystemKind& kind : kKinds) list.push_back(kind.trace);
        return list;
    }();
    return tracers;
}

}  // namespace dredger
