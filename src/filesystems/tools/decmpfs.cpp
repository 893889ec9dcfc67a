#include "filesystems/tools/decmpfs.h"

#include <algorithm>

#include "media/content.h"
#include "volumes/trace.h"

namespace dredger {
namespace {

constexpr std::uint32_t kMagic = 0x636D7066;
constexpr std::uint64_t kBlock = 64 << 10;                  // bytes of content that are packed together
constexpr std::uint64_t kLargest = std::uint64_t{1} << 40;  // bytes of a packed file

// How the types pack, and where they keep it.
struct Kind {
    Pack::Method method;
    bool in_resource_fork;
    // A block that packing would not make smaller stands as it is behind a byte that no packed one begins with.
    std::uint8_t plain_mask, plain_mark;
};
std::optional<Kind> kind_of(std::uint32_t type) {
    switch (type) {
        case 1: return Kind{Pack::Method::none, false, 0, 1};
        case 3: return Kind{Pack::Method::zlib, false, 0x0F, 0x0F};
        case 4: return Kind{Pack::Method::zlib, true, 0x0F, 0x0F};
        case 7: return Kind{Pack::Method::lzvn, false, 0xFF, 0x06};
        case 8: return Kind{Pack::Method::lzvn, true, 0xFF, 0x06};
        case 9: return Kind{Pack::Method::none, false, 0xFF, 0xCC};
        case 10: return Kind{Pack::Method::none, true, 0xFF, 0xCC};
        case 11: return Kind{Pack::Method::lzfse, false, 0xFF, 0xFF};
        case 12: return Kind{Pack::Method::lzfse, true, 0xFF, 0xFF};
        default: return std::nullopt;
    }
}

// Bytes [offset, offset + length) of a fork, as one block of content; a block that lies in pieces is told by all of
// them, the last of which stands for the content.
bool add_block(const Content& fork, const MediumPtr& volume, const Kind& kind, std::uint64_t offset,
               std::uint64_t length, std::uint64_t content, Layout& layout) {
    const auto unknown = [&] { layout.extents.emplace_back(Extent::unknown(content)); };
    if (length == 0 || !lies_within(offset, length, fork.size())) {
        unknown();
        return false;
    }
    auto places = fork.places_of(offset, length);
    const bool all_stored =
        std::all_of(places.begin(), places.end(), [](const Extent& place) { return place.is_stored(); });
    const auto first = all_stored ? bytes_at(*volume, places.front().offset, 1) : std::nullopt;
    if (!first) {
        unknown();
        return false;
    }
    const bool is_plain = (std::to_integer<unsigned>(first->front()) & kind.plain_mask) == kind.plain_mark;
    if (is_plain || kind.method == Pack::Method::none) {
        std::uint64_t left = content;
        for (const Extent& place : fork.places_of(offset + (is_plain ? 1 : 0), length - (is_plain ? 1 : 0))) {
            const std::uint64_t part = std::min(left, place.length);
            if (part > 0) layout.extents.emplace_back(place.part(0, part));
            left -= part;
        }
        if (left > 0) layout.extents.emplace_back(Extent::unknown(left));
        return left == 0;
    }
    for (std::size_t i = 0; i < places.size(); ++i) {
        const std::uint64_t told = i + 1 == places.size() ? content : 0;
        layout.extents.push_back(
            {places[i], {kind.method, 0, static_cast<std::uint32_t>(content), static_cast<std::uint32_t>(told)}});
    }
    return true;
}

struct Block {
    std::uint64_t offset, length;  // bytes, in the resource fork
};

// zlib: a resource of blocks, each with its place and length.
std::vector<Block> blocks_of_resource(const Medium& fork, std::size_t most) {
    std::vector<Block> blocks;
    const auto head = bytes_at(fork, 0, 4);
    if (!head) return blocks;
    constexpr std::uint64_t kLength = 4;  // bytes in front of the resource: how many it has
    const std::uint64_t data_at = ByteView(*head).as<boost::endian::big_uint32_t>(0)->value() + kLength;
    const auto number = bytes_at(fork, data_at, 4);
    if (!number) return blocks;
    const std::size_t count = std::min<std::size_t>(*ByteView(*number).u32le(0), most);
    const auto table = bytes_at(fork, data_at + 4, count * 8);
    for (std::size_t i = 0; table && i < count; ++i)
        blocks.push_back({data_at + *ByteView(*table).u32le(i * 8), *ByteView(*table).u32le(i * 8 + 4)});
    return blocks;
}

// The others: places alone, the first of which tells where the table ends.
std::vector<Block> blocks_of_table(const Medium& fork, std::size_t most) {
    std::vector<Block> blocks;
    const auto head = bytes_at(fork, 0, 4);
    const std::size_t places = head ? *ByteView(*head).u32le(0) / 4 : 0;
    const auto table = bytes_at(fork, 0, std::min(places, most + 1) * 4);
    for (std::size_t i = 0; table && (i + 2) * 4 <= table->size(); ++i) {
        const std::uint64_t from = *ByteView(*table).u32le(i * 4), to = *ByteView(*table).u32le((i + 1) * 4);
        blocks.push_back({from, to > from ? to - from : 0});
    }
    return blocks;
}

}  // namespace

std::optional<DecmpfsHeader> parse_decmpfs(ByteView attribute) {
    const auto header = attribute.as<DecmpfsHeader>(0);
    if (!header || header->compression_magic != kMagic || header->uncompressed_size > kLargest) return std::nullopt;
    return *header;
}

void lay_compressed(const MediumPtr& volume, const std::vector<Extent>& attribute, const std::vector<Extent>& resource,
                    Record& record) {
    const Content told(volume, attribute);
    const auto bytes = bytes_at(told, 0, sizeof(DecmpfsHeader));
    const auto header = bytes ? parse_decmpfs(ByteView(*bytes)) : std::nullopt;
    const auto damaged = [&](const char* note) {
        record.trust = LayoutTrust::damaged;
        record.notes.emplace_back(note);
    };
    if (!header) return damaged("how it is packed is told by an attribute that makes no sense");
    record.size = header->uncompressed_size;
    record.layout = {};
    if (record.size == 0) return;
    const auto kind = kind_of(header->compression_type);
    if (!kind) {
        record.layout.lay({Extent::unknown(record.size)});
        return damaged("it is packed in a way that is not known");
    }
    bool whole = true;
    record.layout.codec = Codec::each;
    if (!kind->in_resource_fork) {
        whole = told.size() > sizeof(DecmpfsHeader) && record.size <= 16 * kBlock &&
                add_block(told, volume, *kind, sizeof(DecmpfsHeader), told.size() - sizeof(DecmpfsHeader), record.size,
                          record.layout);
        record.layout.within_records = true;
    } else {
        const Content fork(volume, resource);
        const auto most = static_cast<std::size_t>(std::min(divide_up(record.size, kBlock), fork.size()));
        const bool is_resource = kind->method == Pack::Method::zlib;
        const auto blocks = is_resource ? blocks_of_resource(fork, most) : blocks_of_table(fork, most);
        std::uint64_t left = record.size;
        for (const Block& block : blocks) {
            const std::uint64_t content = std::min(left, kBlock);
            whole = add_block(fork, volume, *kind, block.offset, block.length, content, record.layout) && whole;
            left -= content;
        }
        if (left > 0) record.layout.extents.emplace_back(Extent::unknown(left));
        whole = whole && left == 0;
    }
    if (!whole) damaged("a part of its packed content is not told");
}

}  // namespace dredger
