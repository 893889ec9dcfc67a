// What is left in a leaf of records that it had before. Taking one out moves the table alone: its key and its value
// stay where they were, but for their first four bytes, in which each is linked to the next place that was given back.
// What a leaf had before it was parted stands behind its last key, whole.
#pragma once

#include <functional>
#include <vector>

#include "filesystems/apfs/records.h"

namespace dredger::apfs {

// What the remains tell of one file.
struct Remnant {
    std::uint64_t number = 0;
    std::optional<Inode> inode;       // its parent is 0 where that is lost
    std::vector<FileExtent> extents;  // of the stream of the same number
};

// A name in a folder; whose it is is not told.
struct LooseLink {
    std::uint64_t parent = 0;
    std::string name;
};

struct LeafRemains {
    std::vector<Remnant> files;
    std::vector<LooseLink> links;
};

// `block`: bytes; `blocks`: of the container; `numbers`: none that the volume gave to a file is as large.
LeafRemains remains_of(const Node& leaf, std::uint32_t block, std::uint64_t blocks, std::uint64_t numbers);

}  // namespace dredger::apfs
