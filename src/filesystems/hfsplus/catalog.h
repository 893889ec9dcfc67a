// Records of the catalog: in a node's table, or as remains that nothing points at any more.
#pragma once

#include <functional>
#include <optional>
#include <string>

#include "filesystems/hfsplus/volume.h"

namespace dredger::hfsplus {

// A name in a folder.
struct Link {
    std::uint32_t parent = 0;  // the folder's id
    std::string name;          // UTF-8, as name_of gives it
    bool operator==(const Link&) const = default;
};

// What the catalog says of a file or folder.
struct CatalogItem {
    std::uint32_t id = 0;
    bool is_folder = false;
    std::optional<FileTime> created, modified, changed, accessed;
    std::uint16_t mode = 0;  // 0: it has no permissions
    std::uint32_t owner = 0, group = 0, special = 0;
    std::uint8_t owner_flags = 0;
    FinderInfo finder{};
    Extent finder_place;  // bytes, on the volume
    Fork data, resource;

    bool is_compressed() const { return (owner_flags & kCompressedFlag) != 0; }
    // Of what kinds the Finder says that it is: "hlnk" and "hfs+" are a hard link.
    bool has_type(std::string_view type, std::string_view creator) const;
    // Whether this state of it comes behind `other`, as far as that can be told.
    bool is_later_than(const CatalogItem& other) const;
};

struct CatalogRecord {
    // How much of a file's data is left, where others were written over its start.
    enum class Left { all, dates_on, forks };

    Left left = Left::all;
    std::optional<std::uint16_t> id_end;  // the last two bytes of its id, where no more of it are left
    std::optional<Link> link;             // of its key; none where only its data is left
    std::optional<CatalogItem> item;      // a file or folder, or none where it is a thread ...
    std::uint32_t thread_of = 0;          // ... which tells the name of what has this id
    Link thread;
    bool thread_is_of_folder = false;
    std::size_t size = 0;  // bytes, of its data
};

// The record that begins with its key at the start of `view`; none where it makes no sense.
std::optional<CatalogRecord> parse_catalog_record(ByteView view, const Geometry& geometry);

// Every record whose data, or the end of it, stands anywhere in `area`, with its key where that stands, too.
void carve_catalog(ByteView area, const Geometry& geometry, const std::function<void(CatalogRecord&&)>& visit);

}  // namespace dredger::hfsplus
