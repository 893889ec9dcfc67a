#include "filesystems/exfat/exfat.h"
#include "filesystems/fat/fat.h"
#include "filesystems/filesystem.h"
#include "filesystems/ntfs/ntfs.h"

namespace dredger {
namespace {

constexpr FileSystemKind kKinds[] = {
    {"FAT", fat::open},
    {"NTFS", ntfs::open},
    {"exFAT", exfat::open},
};

}  // namespace

Result<std::unique_ptr<FileSystem>> open_filesystem(const MediumPtr& volume) {
    for (const FileSystemKind& kind : kKinds) {
        DREDGER_TRY(std::unique_ptr<FileSystem> found, kind.open(volume));
        if (found) return found;
    }
    return nullptr;
}

}  // namespace dredger
