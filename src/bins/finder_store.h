// The file .DS_Store: a tree of what the Finder notes of the things in a folder, in blocks that a buddy allocator
// places. Apple does not publish the format; the description followed here is that of the Perl module
// Mac::Finder::DSStore (DSStoreFormat.pod).
#pragma once

#include <string>
#include <vector>

#include "base/bytes.h"

namespace dredger {

struct FinderNote {
    std::string item;  // the thing's name
    std::string code;  // of what is told: four letters
    std::string text;  // where that is a text; else empty
};

// Those that can be read, in the order of the tree; empty where it is no such file.
std::vector<FinderNote> read_finder_store(ByteView file);

}  // namespace dredger
