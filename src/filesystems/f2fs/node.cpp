#include "filesystems/f2fs/node.h"

#include <algorithm>

namespace dredger::f2fs {
namespace {

FileTime time_of(std::uint64_t seconds, std::uint32_t nanoseconds) {
    return {static_cast<std::int64_t>(seconds), std::min(nanoseconds, 999'999'999U), FileTime::Clock::utc};
}

// Walks the addresses of a file's blocks in their order, up to as many as its size asks for.
class Placing {
  public:
    Placing(const Inode& inode, const Geometry& geometry, const NodeSource& node)
        : geometry_(geometry), node_(node), left_(inode.size) {}

    void addresses(const std::vector<std::uint32_t>& list) {
        for (const std::uint32_t address : list)
            if (left_ > 0) one(address);
    }

    // `levels`: 0: a list of addresses, 1: a list of such lists ...
    void list(std::uint32_t node, unsigned levels) {
        if (left_ == 0) return;
        std::uint64_t covers = kAddressesPerNode;
        for (unsigned i = 0; i < levels; ++i) covers *= kAddressesPerNode;
        if (node == 0) return add(Extent::zeros(covers * kBlock));
        const auto block = lists_ < kMostLists ? node_(node) : std::nullopt;
        if (!block) {
            placed.is_whole = false;
            return add(Extent::unknown(covers * kBlock));
        }
        ++lists_;
        const ByteView view(*block);
        for (std::uint32_t i = 0; i < kAddressesPerNode && left_ > 0; ++i) {
            const std::uint32_t entry = view.u32le(std::size_t{i} * 4).value_or(0);
            if (levels == 0)
                one(entry);
            else
                list(entry, levels - 1);
        }
    }

    void rest() {
        if (left_ > 0) add(Extent::zeros(left_));
    }

    Placed placed;

  private:
    // As many as a file of 4 TB has; a list that leads to itself ends there.
    static constexpr std::size_t kMostLists = 1 << 20;

    void one(std::uint32_t address) {
        if (address == COMPRESS_ADDR) placed.is_packed = true;
        if (address == NULL_ADDR || address == NEW_ADDR || address == COMPRESS_ADDR)
            add(Extent::zeros(kBlock));
        else if (geometry_.is_in_main(address))
            add({std::uint64_t{address} * kBlock, kBlock});
        else
            add(Extent::unknown(kBlock));
    }

    void add(Extent extent) {
        extent.length = std::min(extent.length, left_);
        left_ -= extent.length;
        if (extent.length > 0) append(placed.extents, extent);
    }

    const Geometry& geometry_;
    const NodeSource& node_;
    std::uint64_t left_;     // bytes
    std::size_t lists_ = 0;  // that were read
};

}  // namespace

std::optional<NodeHead> parse_node_head(ByteView block, const Geometry& geometry) {
    const auto footer = block.as<NodeFooter>(kFooterAt);
    if (!footer || footer->nid == 0 || footer->ino == 0 || footer->nid >= geometry.nodes() ||
        footer->ino >= geometry.nodes() || footer->cp_ver == 0)
        return std::nullopt;
    // Of an inode it is the first node, of all others a later one.
    if ((footer->nid == footer->ino) != (footer->flag >> 3U == 0)) return std::nullopt;
    const bool leads_on = footer->next_blkaddr == 0 || footer->next_blkaddr < geometry.blocks;
    if (!leads_on) return std::nullopt;
    return NodeHead{footer->nid, footer->ino, static_cast<std::uint32_t>(footer->cp_ver)};
}

std::optional<Inode> parse_inode(ByteView block, const Geometry& geometry) {
    const auto node = parse_node_head(block, geometry);
    const auto head = block.as<InodeHead>(0);
    if (!node || !node->is_inode() || !head || head->i_namelen > sizeof head->i_name) return std::nullopt;
    Inode inode;
    inode.number = node->inode;
    inode.generation = head->i_generation;
    inode.parent = head->i_pino;
    inode.parent_is_known = (head->i_advise & FADVISE_LOST_PINO) == 0;
    inode.mode = head->i_mode;
    if (!inode.is_folder() && !inode.is_file() && !inode.is_symlink()) return std::nullopt;
    inode.uid = head->i_uid;
    inode.gid = head->i_gid;
    inode.links = head->i_links;
    inode.size = head->i_size;
    if (inode.size > std::uint64_t{1} << 43) return std::nullopt;  // no file of it can be larger
    inode.accessed = time_of(head->i_atime, head->i_atime_nsec);
    inode.changed = time_of(head->i_ctime, head->i_ctime_nsec);
    inode.modified = time_of(head->i_mtime, head->i_mtime_nsec);
    inode.is_encrypted = (head->i_advise & FADVISE_ENCRYPT) != 0;
    if (!inode.is_encrypted)
        inode.name.assign(reinterpret_cast<const char*>(head->i_name), std::size_t{head->i_namelen});
    std::uint32_t extra = 0, xattrs = (head->i_inline & F2FS_INLINE_XATTR) != 0 ? kInlineXattrAddresses : 0;
    if ((head->i_inline & F2FS_EXTRA_ATTR) != 0) {
        const auto more = block.as<InodeExtra>(sizeof(InodeHead));
        if (!more || more->i_extra_isize % 4 != 0 || more->i_extra_isize > 4 * kAddressesPerInode) return std::nullopt;
        extra = more->i_extra_isize / 4U;
        if ((geometry.features & FLEXIBLE_INLINE_XATTR) != 0) xattrs = more->i_inline_xattr_size;
        if ((geometry.features & INODE_CRTIME) != 0 && more->i_extra_isize >= sizeof(InodeExtra))
            inode.created = time_of(more->i_crtime, more->i_crtime_nsec);
    }
    if (extra + xattrs + 1 > kAddressesPerInode) return std::nullopt;
    const std::uint32_t count = kAddressesPerInode - extra - xattrs;
    const std::uint32_t at = sizeof(InodeHead) + extra * 4;
    inode.has_inline_data = (head->i_inline & F2FS_INLINE_DATA) != 0;
    inode.has_inline_entries = (head->i_inline & F2FS_INLINE_DENTRY) != 0;
    if (inode.has_inline_data || inode.has_inline_entries) {
        // One address in front of what stands in the inode stays free.
        inode.inline_at = block.origin() + at + 4;
        const auto bytes = block.bytes().subspan(at + 4, std::size_t{count - 1} * 4);
        inode.inline_bytes.assign(bytes.begin(), bytes.end());
        return inode;
    }
    for (std::uint32_t i = 0; i < count; ++i)
        inode.addresses.push_back(block.u32le(at + std::size_t{i} * 4).value_or(0));
    for (std::size_t i = 0; i < inode.nodes.size(); ++i) inode.nodes[i] = block.u32le(kNodeIdsAt + i * 4).value_or(0);
    return inode;
}

Placed place(const Inode& inode, const Geometry& geometry, const NodeSource& node) {
    Placing placing(inode, geometry, node);
    placing.addresses(inode.addresses);
    constexpr std::array<unsigned, 5> kLevels = {0, 0, 1, 1, 2};
    for (std::size_t i = 0; i < kLevels.size(); ++i) placing.list(inode.nodes[i], kLevels[i]);
    placing.rest();
    return std::move(placing.placed);
}

}  // namespace dredger::f2fs
