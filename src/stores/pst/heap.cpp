#include "stores/pst/heap.h"

#include <algorithm>
#include <set>

namespace dredger::stores::pst {
namespace {

constexpr std::size_t kMaxRecords = 4 << 20;
constexpr std::size_t kMaxRowBlocks = 4096;

bool is_subnode(std::uint32_t hnid) { return type_of(hnid) != NID_TYPE_HID; }

// Bytes of a value that stands in its record; 0 where it lies elsewhere.
std::size_t inline_size(mapi::Type type) {
    switch (type) {
        case mapi::Type::integer16: return 2;
        case mapi::Type::integer32:
        case mapi::Type::error: return 4;
        case mapi::Type::boolean: return 1;
        default: return 0;
    }
}

// The structure that these bytes begin with; none where they are not there.
template <class T>
std::optional<T> structure_in(const std::optional<ByteView>& bytes) {
    if (!bytes) return std::nullopt;
    const auto found = bytes->as<T>(0);
    return found ? std::optional(*found) : std::nullopt;
}

std::string text_of(ByteView bytes) { return {reinterpret_cast<const char*>(bytes.bytes().data()), bytes.size()}; }

}  // namespace

NodeHeap::NodeHeap(const Database& database, std::uint64_t bidData, std::uint64_t bidSub)
    : database_(database), tree_(database.data_tree(bidData)) {
    subnodes_ = database.subnodes(bidSub, was_whole_);
}

std::optional<ByteView> NodeHeap::data_block(std::size_t number) const {
    if (number >= tree_.pieces.size()) return std::nullopt;
    const auto [known, is_new] = blocks_.try_emplace(number);
    if (is_new) known->second = database_.block(tree_.pieces[number].bid);
    return known->second ? std::optional(ByteView(*known->second)) : std::nullopt;
}

bool NodeHeap::is(std::uint8_t client_signature) const {
    const auto header = structure_in<HNHDR>(data_block(0));
    return header && header->bSig == kHeapSignature && header->bClientSig == client_signature;
}

std::uint32_t NodeHeap::user_root() const {
    const auto header = structure_in<HNHDR>(data_block(0));
    return header ? header->hidUserRoot.value() : 0;
}

std::optional<ByteView> NodeHeap::item(std::uint32_t hid) const {
    // Larger blocks need more bits for what is in them (3.3 of the newest form's stores).
    const unsigned index_bits = database_.form() == Form::unicode_4k ? 14 : 11;
    const std::size_t index = hid >> 5 & ((1U << index_bits) - 1), number = hid >> (5 + index_bits);
    const auto bytes = data_block(number);
    const auto missing = [&]() -> std::optional<ByteView> {
        was_whole_ = false;
        return std::nullopt;
    };
    if (!bytes || index == 0) return missing();
    // HNPAGEMAP: how many, how many are free, and where each begins.
    const std::size_t map = bytes->u16le(0).value_or(0);
    const auto count = bytes->u16le(map), begin = bytes->u16le(map + 4 + (index - 1) * 2),
               end = bytes->u16le(map + 4 + index * 2);
    if (!count || index > *count || !begin || !end || *end < *begin) return missing();
    const auto slice = bytes->slice(*begin, *end - *begin);
    return slice ? std::optional(*slice) : missing();
}

mapi::Value NodeHeap::value(mapi::Type type, std::uint32_t hnid) const {
    mapi::Value value{type, {}, nullptr};
    if (hnid == 0) return value;
    if (!is_subnode(hnid)) {
        const auto bytes = item(hnid);
        if (bytes) value.bytes = text_of(*bytes);
        value.is_whole = bytes.has_value();
        return value;
    }
    const auto node = subnodes_.find(hnid);
    if (node == subnodes_.end()) {
        was_whole_ = false;
        return value;
    }
    Database::DataTree tree = database_.data_tree(node->second.bidData);
    value.is_whole = tree.is_whole;
    was_whole_ = was_whole_ && value.is_whole;
    value.content = database_.open_data(std::move(tree));
    return value;
}

std::vector<ByteView> NodeHeap::blocks_of(std::uint32_t hnid) const {
    std::vector<ByteView> list;
    if (hnid == 0) return list;
    if (!is_subnode(hnid)) {
        if (const auto bytes = item(hnid)) list.push_back(*bytes);
        return list;
    }
    const auto node = subnodes_.find(hnid);
    if (node == subnodes_.end()) {
        was_whole_ = false;
        return list;
    }
    const auto tree = database_.data_tree(node->second.bidData);
    was_whole_ = was_whole_ && tree.is_whole;
    row_blocks_.clear();
    for (const auto& piece : tree.pieces) {
        if (row_blocks_.size() >= kMaxRowBlocks) break;
        auto bytes = database_.block(piece.bid);
        was_whole_ = was_whole_ && bytes;
        // The rows of a block that is lost are told by what others remain.
        row_blocks_.push_back(bytes ? std::move(*bytes) : std::vector<std::byte>());
    }
    for (const auto& bytes : row_blocks_) list.emplace_back(bytes);
    return list;
}

void NodeHeap::each_record(std::uint32_t hid,
                           const std::function<void(std::uint64_t key, ByteView data)>& visit) const {
    const auto header = structure_in<BTHHEADER>(item(hid));
    if (!header || header->bType != bTypeBTH || header->cbKey == 0 || header->cbKey > 8) return;
    std::vector<std::pair<std::uint32_t, unsigned>> left = {{header->hidRoot, header->bIdxLevels}};
    std::set<std::uint32_t> seen;
    std::size_t count = 0;
    while (!left.empty() && count < kMaxRecords) {
        const auto [one, level] = left.back();
        left.pop_back();
        if (one == 0 || level > 8 || !seen.insert(one).second) continue;
        const auto bytes = item(one);
        if (!bytes) continue;
        const std::size_t size = header->cbKey + (level > 0 ? 4U : header->cbEnt);
        for (std::size_t at = 0; at + size <= bytes->size(); at += size, ++count) {
            const ByteView record = *bytes->slice(at, size);
            if (level > 0) {
                left.emplace_back(record.u32le(header->cbKey).value_or(0), level - 1);
                continue;
            }
            std::uint64_t key = 0;
            for (std::size_t i = header->cbKey; i-- > 0;) key = key << 8 | record.u8(i).value_or(0);
            visit(key, *record.slice(header->cbKey, header->cbEnt));
        }
    }
}

mapi::Properties properties_of(const NodeHeap& heap) {
    mapi::Properties properties;
    if (!heap.is(bTypePC)) return properties;
    heap.each_record(heap.user_root(), [&](std::uint64_t tag, ByteView data) {
        const auto type = static_cast<mapi::Type>(data.u16le(0).value_or(0));
        const auto inlined = inline_size(type);
        const auto stored = data.slice(2, 4);
        if (!stored) return;
        if (inlined > 0)
            properties.set(static_cast<std::uint16_t>(tag), {type, text_of(*stored).substr(0, inlined), nullptr});
        else
            properties.set(static_cast<std::uint16_t>(tag), heap.value(type, stored->u32le(0).value_or(0)));
    });
    return properties;
}

std::vector<std::uint32_t> row_ids(const NodeHeap& heap) {
    std::vector<std::uint32_t> ids;
    if (!heap.is(bTypeTC)) return ids;
    const auto table = structure_in<TCINFO>(heap.item(heap.user_root()));
    if (!table) return ids;
    heap.each_record(table->hidRowIndex,
                     [&](std::uint64_t id, ByteView) { ids.push_back(static_cast<std::uint32_t>(id)); });
    return ids;
}

std::vector<Row> rows_of(const NodeHeap& heap) {
    std::vector<Row> rows;
    if (!heap.is(bTypeTC)) return rows;
    const auto info = heap.item(heap.user_root());
    const auto table = structure_in<TCINFO>(info);
    if (!table || table->TCI_bm == 0) return rows;
    const std::size_t width = table->TCI_bm;
    for (const ByteView& block : heap.blocks_of(table->hnidRows)) {
        for (std::size_t at = 0; at + width <= block.size(); at += width) {
            const ByteView stored = *block.slice(at, width);
            Row row;
            row.id = stored.u32le(0).value_or(0);
            for (std::size_t column = 0; column < table->cCols; ++column) {
                const auto told = info->as<TCOLDESC>(sizeof(TCINFO) + column * sizeof(TCOLDESC));
                if (!told) break;
                // The bits behind the columns tell which of them the row has.
                const auto bits = stored.u8(table->TCI_1b + told->iBit / 8U);
                if (!bits || (*bits >> (7 - told->iBit % 8U) & 1U) == 0) continue;
                const auto data = stored.slice(told->ibData, told->cbData);
                if (!data) continue;
                const auto type = static_cast<mapi::Type>(told->tag & 0xFFFFU);
                const auto tag = static_cast<std::uint16_t>(told->tag >> 16);
                const bool is_here = inline_size(type) > 0 || type == mapi::Type::time ||
                                     type == mapi::Type::integer64 || type == mapi::Type::floating64;
                row.properties.set(tag, is_here ? mapi::Value{type, text_of(*data), nullptr}
                                                : heap.value(type, data->u32le(0).value_or(0)));
            }
            rows.push_back(std::move(row));
        }
    }
    return rows;
}

}  // namespace dredger::stores::pst
