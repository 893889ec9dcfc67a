#include "volumes/volume.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/bytes.h"
#include "volumes/apm.h"
#include "volumes/gpt.h"
#include "volumes/mbr.h"

namespace dredger {
namespace {

// A disc that carries a map for Macs beside its own file system is read by that.
bool is_iso9660(const Medium& medium) {
    constexpr std::uint64_t kDescriptor = 16 * 2048;  // bytes
    const auto head = medium.size() >= kDescriptor + 6 ? medium.bytes(kDescriptor, 6)
                                                       : Result<std::vector<std::byte>>(std::vector<std::byte>());
    return head && ByteView(*head).has(1, "CD001");
}

// What lies beyond the medium can't be read; the rest of the volume can.
void keep_on_medium(PartitionMap& map, std::uint64_t size) {
    std::erase_if(map.volumes, [&](const Volume& volume) {
        if (volume.offset < size) return false;
        map.warnings.push_back(fmt::format(
            "a partition at offset {} lies beyond the end of the medium: the image may be cut short", volume.offset));
        return true;
    });
    std::stable_sort(map.volumes.begin(), map.volumes.end(),
                     [](const Volume& a, const Volume& b) { return a.offset < b.offset; });
    unsigned number = 0;
    for (Volume& volume : map.volumes) {
        volume.number = ++number;
        if (volume.length <= size - volume.offset) continue;
        volume.cut = volume.length - (size - volume.offset);
        volume.length = size - volume.offset;
        map.warnings.push_back(
            fmt::format("volume {} should be {} bytes longer than the medium is: the image may be cut short",
                        volume.number, volume.cut));
    }
}

}  // namespace

Result<PartitionMap> read_partition_map(const Medium& medium) {
    PartitionMap map;
    if (auto found = gpt::read(medium)) {
        map = std::move(*found);
    } else if (auto apple = is_iso9660(medium) ? std::nullopt : apm::read(medium)) {
        map = std::move(*apple);
    } else if (auto older = mbr::read(medium); older && !mbr::is_protective(medium)) {
        map = std::move(*older);
    } else {
        map.volumes.push_back({1, 0, medium.size(), TableKind::none, {}, {}, 0});
        if (mbr::is_protective(medium))
            map.warnings.emplace_back("the medium had a GPT, but both its copies are damaged");
    }
    if (medium.size() > 0 && !medium.bytes(0, 1))
        map.warnings.emplace_back("the first sector can't be read: a bad area, or an image that is cut short");
    keep_on_medium(map, medium.size());
    return map;
}

}  // namespace dredger
