#include "filesystems/hfsplus/btree.h"
#include "filesystems/hfsplus/hfsplus.h"

namespace dredger::hfsplus {
namespace {

// Whether a tree's first node stands where the header says that the catalog begins.
bool has_catalog(const Medium& medium, const Geometry& geometry) {
    const auto place = checked_add(geometry.base, geometry.catalog.first_block() * geometry.block_size);
    const auto bytes = place ? bytes_at(medium, *place, sizeof(NodeDescriptor) + sizeof(HeaderRecord)) : std::nullopt;
    if (!bytes) return false;
    const auto node = *ByteView(*bytes).as<NodeDescriptor>(0);
    const auto header = *ByteView(*bytes).as<HeaderRecord>(sizeof(NodeDescriptor));
    return node.kind == kHeaderNode && header.nodeSize >= 512 && header.treeDepth <= 16;
}

}  // namespace

// A header is at the volume's start, its alternate at its end; which one it is, and where the volume begins, shows in
// whether the other one and the catalog stand where it says.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there) {
    auto geometry = parse_volume_header(there);
    if (!geometry) return std::nullopt;
    const std::uint64_t length = geometry->length();
    struct Reading {
        bool fits;
        std::uint64_t start, other;  // where the volume begins, and its other header is
    };
    const Reading readings[] = {{at >= kHeaderAt, at - kHeaderAt, at - 2 * kHeaderAt + length},
                                {at + kHeaderAt >= length, at + kHeaderAt - length, at + 2 * kHeaderAt - length}};
    for (const Reading& reading : readings) {
        if (!reading.fits) continue;
        const auto bytes = bytes_at(medium, reading.other, sizeof(VolumeHeader));
        const auto other = bytes ? parse_volume_header(ByteView(*bytes)) : std::nullopt;
        geometry->base = reading.start;
        const bool has_other = other && other->length() == length, has_tree = has_catalog(medium, *geometry);
        if (!has_other && !has_tree) continue;
        return VolumeTrace{
            geometry->is_hfsx ? "HFSX" : "HFS+",
            "",
            reading.start,
            length,
            1U + (has_other ? 1U : 0U) + (has_tree ? 1U : 0U),
            has_other ? "the headers at its start and at its end agree" : "its catalog is where its header says",
            at};
    }
    return std::nullopt;
}

}  // namespace dredger::hfsplus
