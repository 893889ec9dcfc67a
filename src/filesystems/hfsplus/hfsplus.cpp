#include "filesystems/hfsplus/hfsplus.h"

#include <fmt/format.h>

#include "filesystems/hfsplus/walk.h"

namespace dredger::hfsplus {

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume) {
    VolumeFacts facts;
    const auto geometry = find_geometry(*volume, facts);
    if (!geometry) return nullptr;
    return std::make_unique<HfsPlus>(std::move(volume), *geometry, std::move(facts));
}

HfsPlus::HfsPlus(MediumPtr volume, const Geometry& geometry, VolumeFacts facts)
    : volume_(std::move(volume)), geometry_(geometry) {
    facts_ = std::move(facts);
    facts_.filesystem = geometry_.is_hfsx ? "HFSX" : "HFS+";
    facts_.cluster_size = geometry_.block_size;
    facts_.size = geometry_.length();
    read_space();
    read_label();
    facts_.used = space_.taken_bytes();
    if (!geometry_.was_unmounted) facts_.warnings.emplace_back("it was not unmounted: the last changes may be missing");
    if (geometry_.base + facts_.size > volume_->size())
        facts_.warnings.push_back(fmt::format("the volume should have {} bytes, {} can be read: it is cut short",
                                              facts_.size,
                                              volume_->size() - std::min(volume_->size(), geometry_.base)));
}

// The allocation file has a bit for each block, the highest of each byte first.
void HfsPlus::read_space() {
    const std::uint64_t there =
        volume_->size() > geometry_.base ? (volume_->size() - geometry_.base) / geometry_.block_size : 0;
    space_ = SpaceMap(geometry_.base, geometry_.block_size, std::min(geometry_.total_blocks, there));
    const Content map(volume_, ExtentsOverflow().extents_of(geometry_.allocation, 6, ForkKind::data, geometry_));
    constexpr std::uint64_t kAtOnce = 1 << 20;  // bytes
    bool whole = map.size() >= divide_up(geometry_.total_blocks, 8);
    for (std::uint64_t at = 0; at < std::min(map.size(), divide_up(space_.units(), 8)); at += kAtOnce) {
        std::vector<std::byte> bits(static_cast<std::size_t>(std::min(kAtOnce, map.size() - at)));
        std::vector<Extent> bad;
        if (!map.read(at, bits, &bad) || !bad.empty()) whole = false;
        for (std::byte& byte : bits) {
            auto b = std::to_integer<unsigned>(byte), turned = 0U;
            for (unsigned bit = 0; bit < 8; ++bit) turned |= (b >> bit & 1U) << (7 - bit);
            byte = static_cast<std::byte>(turned);
        }
        space_.take_bits(at * 8, bits);
    }
    if (!whole)
        facts_.warnings.emplace_back(
            "the map of used space is damaged: what is overwritten is told by the files' records alone");
}

// The root's thread has the volume's name.
void HfsPlus::read_label() {
    const Btree catalog(volume_,
                        ExtentsOverflow().extents_of(geometry_.catalog, kCatalogFileID, ForkKind::data, geometry_));
    catalog.each_leaf([&](const Node& leaf, std::uint64_t) {
        for (std::size_t i = 0; i < leaf.count(); ++i) {
            const auto record = parse_catalog_record(leaf.record(i), geometry_);
            if (record && record->link && record->link->parent == kRootParentID) facts_.label = record->link->name;
        }
        return false;
    });
}

Result<void> HfsPlus::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const {
    HfsPlusWalk(volume_, geometry_, space_, options, sink, warnings).run();
    return {};
}

}  // namespace dredger::hfsplus
