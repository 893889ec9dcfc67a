// The entries of an ISO 9660 directory, with what Rock Ridge and Joliet add to them.
#pragma once

#include <optional>
#include <vector>

#include "filesystems/filesystem.h"
#include "filesystems/iso9660/structures.h"

namespace dredger::iso9660 {

enum class Naming { plain, joliet, rock_ridge };

struct Entry {
    std::string name;  // UTF-8; empty where it can't be
    bool is_folder = false;
    std::uint64_t size = 0;       // bytes, of all extents
    std::vector<Extent> extents;  // bytes on the volume
    std::optional<FileTime> recorded, modified, accessed, changed, created;
    std::optional<std::uint32_t> mode, uid, gid;
    bool is_hidden = false;
    std::string target;            // of a symbolic link
    std::uint64_t place = 0;       // byte of the volume at which its record stands
    std::uint64_t child_link = 0;  // block of the folder that was moved elsewhere; 0: it is where it stands
    bool was_moved = false;        // it stands here only for being deep elsewhere
};

// The entries of the directory with this content, which stands at byte `at`; not those for itself and its parent.
// `susp_skip`: bytes of each System Use area that are not its own.
std::vector<Entry> read_directory(const Medium& volume, ByteView content, std::uint64_t at, std::uint64_t block,
                                  Naming naming, std::size_t susp_skip);

// Whether the record for the directory itself says that Rock Ridge is used: the bytes to skip, or nothing.
std::optional<std::size_t> rock_ridge_skip(const Medium& volume, ByteView content, std::uint64_t block);

}  // namespace dredger::iso9660
