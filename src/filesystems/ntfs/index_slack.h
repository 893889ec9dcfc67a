// Names that still stand in the index of a folder though they were taken out of it: behind the entries in use of each
// block, in blocks that are free, and in the index of a folder that was deleted.
#pragma once

#include <vector>

#include "filesystems/ntfs/file.h"
#include "filesystems/ntfs/folders.h"

namespace dredger::ntfs {

struct FormerName {
    Name name;
    Reference file;            // whose name it was
    bool has_file = false;     // false: that part of the entry is overwritten
    std::uint64_t offset = 0;  // of the name, on the volume
};

enum class IndexPart { slack, all };

// What stands in `bytes`, from `from` on, of names that were in `folder`: an index block with its fix-ups undone, or a
// record. Entries need not begin anywhere in particular. A name counts though the start of its entry is overwritten,
// and the reference to its folder too; one that refers to another folder was there before this one took the place.
void find_former_names(ByteView bytes, std::size_t from, Reference folder, std::vector<FormerName>& into);

// The same of a whole index block as it was read; nothing where it is no index block.
void read_index_block(std::span<std::byte> block, std::uint64_t offset, Reference folder, IndexPart part,
                      std::vector<FormerName>& into);

}  // namespace dredger::ntfs
