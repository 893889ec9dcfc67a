// Folders of F2FS: blocks of entries, or entries within the inode. Entries that were taken out keep their bytes.
// Source: include/linux/f2fs_fs.h, struct f2fs_dentry_block; fs/f2fs/f2fs.h, make_dentry_ptr_inline.
#pragma once

#include <string>
#include <vector>

#include "base/bytes.h"
#include "filesystems/f2fs/structures.h"
#include "filesystems/posix.h"

namespace dredger::f2fs {

struct DirectoryEntry {
    std::string name;  // bytes as they stand
    std::uint32_t inode = 0;
    FileType type = FileType::unknown;
    bool is_live = true;
};

// `area`: a block of a folder, or what its inode has of it. Without "." and "..".
std::vector<DirectoryEntry> read_entries(ByteView area);

}  // namespace dredger::f2fs
