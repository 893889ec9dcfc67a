#include "filesystems/hfsplus/extents.h"

#include <algorithm>

namespace dredger::hfsplus {
namespace {

constexpr std::size_t kMostRecords = 2'000'000;
constexpr std::size_t kRecordSize = sizeof(ExtentKey) + sizeof(ExtentRecord);

}  // namespace

bool ExtentsOverflow::take(ByteView record, const Geometry& geometry) {
    const auto key = record.as<ExtentKey>(0);
    if (!key || key->keyLength + sizeof(big_uint16_t) != sizeof(ExtentKey) || key->pad != 0 || key->fileID == 0 ||
        key->startBlock == 0 || (key->forkType != 0 && key->forkType != 0xFF))
        return false;
    const auto extents = record.as<std::array<ExtentDescriptor, kExtentDensity>>(sizeof(ExtentKey));
    if (!extents || (*extents)[0].blockCount == 0) return false;
    bool has_ended = false;
    for (const ExtentDescriptor& extent : *extents) {
        if (extent.blockCount == 0)
            has_ended = true;
        else if (has_ended || !geometry.holds(extent.startBlock, extent.blockCount))
            return false;
    }
    if (count_ >= kMostRecords) return false;
    const auto kind = key->forkType == 0 ? ForkKind::data : ForkKind::resource;
    count_ += records_[{key->fileID, kind}].emplace(key->startBlock, *extents).second ? 1 : 0;
    return true;
}

void ExtentsOverflow::read(const Btree& tree, const Geometry& geometry) {
    tree.each_leaf([&](const Node& leaf, std::uint64_t) {
        for (std::size_t i = 0; i < leaf.count(); ++i) take(leaf.record(i), geometry);
        return true;
    });
}

void ExtentsOverflow::carve(ByteView area, const Geometry& geometry) {
    constexpr std::size_t kStep = 2;
    for (std::size_t at = area.origin() % kStep; at + kRecordSize <= area.size();)
        at += take(*area.slice(at, kRecordSize), geometry) ? kRecordSize : kStep;
}

std::vector<Extent> ExtentsOverflow::extents_of(const Fork& fork, std::uint32_t id, ForkKind kind,
                                                const Geometry& geometry) const {
    std::vector<Extent> extents;
    std::uint64_t told = 0;  // blocks
    const std::uint64_t wanted = divide_up(fork.size, geometry.block_size);
    const auto add = [&](std::span<const ExtentDescriptor> more) {
        for (const ExtentDescriptor& extent : more) {
            const std::uint64_t count = std::min<std::uint64_t>(extent.blockCount, wanted - told);
            if (count == 0) return;
            append(extents, {geometry.place_of(extent.startBlock), count * geometry.block_size});
            told += count;
        }
    };
    add(fork.extents);
    const auto further = records_.find({id, kind});
    while (told < wanted && further != records_.end()) {
        const auto next = further->second.find(static_cast<std::uint32_t>(told));
        if (next == further->second.end()) break;
        add(next->second);
    }
    std::uint64_t size = std::min(told * geometry.block_size, fork.size);
    if (told * geometry.block_size > fork.size && !extents.empty())
        extents.back().length -= told * geometry.block_size - fork.size;
    if (size < fork.size) append(extents, Extent::unknown(fork.size - size));
    return extents;
}

}  // namespace dredger::hfsplus
