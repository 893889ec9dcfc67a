#include "filesystems/hfsplus/attributes.h"

#include <algorithm>

namespace dredger::hfsplus {
namespace {

constexpr std::size_t kMostAttributes = 1'000'000;
constexpr std::size_t kLongestName = 127;  // UTF-16 units

}  // namespace

// How many bytes the record has; 0: it is none.
std::size_t Attributes::take(ByteView view, const Geometry& geometry) {
    const auto key = view.as<AttributeKey>(0);
    if (!key || key->pad != 0 || key->fileID == 0 || key->startBlock != 0 || key->attrNameLen == 0 ||
        key->attrNameLen > kLongestName)
        return 0;
    const std::size_t name_size = key->attrNameLen * std::size_t{2}, at = sizeof(AttributeKey) + name_size;
    const auto name = view.slice(sizeof(AttributeKey), name_size);
    const auto type = view.as<big_uint32_t>(at);
    if (!name || !type || key->keyLength + sizeof(big_uint16_t) != at) return 0;
    Attribute attribute;
    attribute.name = name_of(*name);
    std::size_t size = 0;
    if (*type == kAttributeInline) {
        const auto data = view.as<AttributeData>(at);
        if (!data || !lies_within(at + sizeof(AttributeData), data->attrSize, view.size())) return 0;
        attribute.place = {view.origin() + at + sizeof(AttributeData), data->attrSize};
        size = at + sizeof(AttributeData) + data->attrSize;
    } else if (*type == kAttributeFork) {
        const auto data = view.as<AttributeForkData>(at);
        if (!data) return 0;
        attribute.fork = Fork::of(data->theFork);
        for (const ExtentDescriptor& extent : attribute.fork.extents)
            if (extent.blockCount != 0 && !geometry.holds(extent.startBlock, extent.blockCount)) return 0;
        if (attribute.fork.size > geometry.length()) return 0;
        size = at + sizeof(AttributeForkData);
    } else {
        return 0;
    }
    if (count_ >= kMostAttributes || attribute.size() == 0) return size;
    auto& list = by_file_[key->fileID];
    const bool is_known =
        std::any_of(list.begin(), list.end(), [&](const Attribute& one) { return one.name == attribute.name; });
    if (is_known) return size;
    ++count_;
    list.push_back(std::move(attribute));
    return size;
}

void Attributes::read(const Btree& tree, const Geometry& geometry) {
    tree.each_leaf([&](const Node& leaf, std::uint64_t) {
        for (std::size_t i = 0; i < leaf.count(); ++i) take(leaf.record(i), geometry);
        return true;
    });
}

void Attributes::carve(ByteView area, const Geometry& geometry) {
    constexpr std::size_t kStep = 2;
    for (std::size_t at = area.origin() % kStep; at + sizeof(AttributeKey) <= area.size();)
        at += std::max(take(*area.slice(at, area.size() - at), geometry), kStep);
}

const std::vector<Attribute>& Attributes::of(std::uint32_t id) const {
    static const std::vector<Attribute> kNone;
    const auto found = by_file_.find(id);
    return found == by_file_.end() ? kNone : found->second;
}

const Attribute* Attributes::find(std::uint32_t id, std::string_view name) const {
    for (const Attribute& attribute : of(id))
        if (attribute.name == name) return &attribute;
    return nullptr;
}

}  // namespace dredger::hfsplus
