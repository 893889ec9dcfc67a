#include "stores/pst/pages.h"

#include "stores/pst/encoding.h"

namespace dredger::stores::pst {
namespace {

std::uint64_t id_at(const Geometry& geometry, ByteView bytes, std::size_t at) {
    if (geometry.id == 4) return bytes.u32le(at).value_or(0);
    return bytes.u64le(at).value_or(0);
}

// BTENTRY, BBTENTRY and NBTENTRY (2.2.2.7.7).
void read_entry(const Geometry& geometry, ByteView entry, TreePage& page) {
    const std::size_t id = geometry.id;
    if (page.level > 0) {
        page.children.push_back({id_at(geometry, entry, id), id_at(geometry, entry, 2 * id)});
    } else if (page.ptype == ptypeBBT) {
        BlockPlace block;
        block.bid = id_at(geometry, entry, 0) & ~std::uint64_t{1};
        block.ib = id_at(geometry, entry, id);
        block.cb = entry.u16le(2 * id).value_or(0);
        block.unpacked = geometry.form == Form::unicode_4k ? entry.u16le(2 * id + 2).value_or(0) : block.cb;
        page.blocks.push_back(block);
    } else {
        Node node;
        node.nid = static_cast<std::uint32_t>(id_at(geometry, entry, 0));
        node.bidData = id_at(geometry, entry, id) & ~std::uint64_t{1};
        node.bidSub = id_at(geometry, entry, 2 * id) & ~std::uint64_t{1};
        node.nidParent = entry.u32le(3 * id).value_or(0);
        node.age = page.bid;
        page.nodes.push_back(node);
    }
}

}  // namespace

const Geometry& geometry_of(Form form) {
    static const Geometry ansi{Form::ansi, 512, 12, 496, 64, 12, 4, 184, 192, 461};
    static const Geometry unicode{};
    static const Geometry unicode_4k{Form::unicode_4k, 4096, 24, 4056, 512, 24, 8, 216, 232, 513};
    return form == Form::ansi ? ansi : form == Form::unicode ? unicode : unicode_4k;
}

std::optional<TreePage> tree_page(const Geometry& geometry, ByteView bytes, std::optional<std::uint64_t> ib) {
    const auto trailer = bytes.slice(geometry.page - geometry.page_trailer, geometry.page_trailer);
    if (!trailer) return std::nullopt;
    TreePage page;
    page.ptype = *trailer->u8(0);
    if ((page.ptype != ptypeBBT && page.ptype != ptypeNBT) || *trailer->u8(1) != page.ptype) return std::nullopt;
    const bool is_ansi = geometry.form == Form::ansi;
    page.bid = is_ansi ? trailer->u32le(4).value_or(0) : trailer->u64le(8).value_or(0);
    const std::uint32_t crc = trailer->u32le(is_ansi ? 8 : 4).value_or(0);
    if (ib && *trailer->u16le(2) != compute_sig(*ib, page.bid)) return std::nullopt;
    if (crc != compute_crc(bytes.bytes().first(geometry.page - geometry.page_trailer))) return std::nullopt;

    const bool is_wide = geometry.form == Form::unicode_4k;
    const std::size_t count =
        is_wide ? bytes.u16le(geometry.entries).value_or(0) : bytes.u8(geometry.entries).value_or(0);
    const std::size_t size = bytes.u8(geometry.entries + (is_wide ? 4 : 2)).value_or(0);
    page.level = bytes.u8(geometry.entries + (is_wide ? 5 : 3)).value_or(0);
    const std::size_t least = page.level > 0           ? 3 * geometry.id
                              : page.ptype == ptypeNBT ? 3 * geometry.id + 4
                                                       : 2 * geometry.id + 2;
    if (size < least || count * size > geometry.entries) return std::nullopt;
    for (std::size_t n = 0; n < count; ++n)
        if (const auto entry = bytes.slice(n * size, size)) read_entry(geometry, *entry, page);
    return page;
}

BlockTrailer block_trailer(const Geometry& geometry, ByteView bytes) {
    BlockTrailer trailer;
    const bool is_ansi = geometry.form == Form::ansi;
    trailer.cb = bytes.u16le(0).value_or(0);
    trailer.wSig = bytes.u16le(2).value_or(0);
    trailer.dwCRC = bytes.u32le(is_ansi ? 8 : 4).value_or(0);
    trailer.bid = is_ansi ? bytes.u32le(4).value_or(0) : bytes.u64le(8).value_or(0);
    trailer.unpacked = geometry.form == Form::unicode_4k ? bytes.u16le(18).value_or(0) : trailer.cb;
    return trailer;
}

std::uint64_t space_of(const Geometry& geometry, std::uint64_t cb) {
    return divide_up(cb + geometry.block_trailer, geometry.block_align) * geometry.block_align;
}

}  // namespace dredger::stores::pst
