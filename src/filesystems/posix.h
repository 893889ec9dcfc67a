// What the file systems of Unix write down of a file's owner and mode.
#pragma once

#include "filesystems/filesystem.h"

namespace dredger {

// The file types in st_mode (POSIX, <sys/stat.h>).
inline constexpr std::uint16_t kTypeMask = 0xF000, kFolderType = 0x4000, kFileType = 0x8000, kSymlinkType = 0xA000;

// The types that directories of ext and XFS tell of their entries.
enum class FileType : std::uint8_t { unknown, file, folder, character_device, block_device, pipe, socket, symlink };

// "drwxr-x---"
std::string mode_text(std::uint16_t mode);

// The facts "inode", "mode" and "owner", and the attribute of a symbolic link.
void tell_inode_facts(Record& record, std::uint64_t number, std::uint16_t mode, std::uint32_t uid, std::uint32_t gid);

// The permissions that the fact "mode" tells, without those that would let a program run as another user.
std::optional<std::uint16_t> permissions_of(const FileEntry& record);

}  // namespace dredger
