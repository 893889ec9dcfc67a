#include "carving/endings.h"

#include <algorithm>

#include "carving/find.h"

namespace dredger {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kNoChance = 16;  // zeros

}  // namespace

Endings::Endings(const Medium& ground, const Remains& remains, const Coverage& asked_for, const Budget::Stop& stop)
    : grain_(remains.grain()), phase_(remains.phase()) {
    constexpr std::size_t kAtOnce = 1 << 20;
    std::vector<Extent> parts;
    for (const Extent& run : remains.runs())
        for (const Extent& part : asked_for.within(run.offset, run.length)) parts.push_back(part);
    std::vector<std::byte> bytes;
    std::uint64_t left = kMostRead;
    for (const Extent& part : parts)
        for (std::uint64_t at = sector_end(part.offset); at < part.end() && left > 0 && !(stop && stop());
             at += kAtOnce) {
            bytes.resize(static_cast<std::size_t>(std::min<std::uint64_t>(part.end() - at, kAtOnce)));
            left -= std::min<std::uint64_t>(left, bytes.size());
            std::vector<Extent> bad;
            // What can't be read reads as zeros, and nothing ends there.
            if (!ground.read(at, bytes, &bad)) continue;
            for (std::size_t sector = 0; sector + kSector <= bytes.size(); sector += kSector) {
                const auto begin = bytes.begin() + static_cast<std::ptrdiff_t>(sector);
                const auto last =
                    std::find_if(std::make_reverse_iterator(begin + kSector), std::make_reverse_iterator(begin),
                                 [](std::byte b) { return b != std::byte{0}; });
                const auto used = static_cast<std::uint64_t>(last.base() - begin);
                const std::uint64_t end = at + sector + used;
                if (used > 0 && kSector - used >= kNoChance) ends_[end % kSector].push_back(end);
            }
        }
}

std::vector<std::uint64_t> Endings::of(std::uint64_t rest) const {
    std::vector<std::uint64_t> fitting;
    for (const std::uint64_t end : ends_[(rest + phase_) % kSector])
        if (end >= rest && (end - rest) % grain_ == phase_) fitting.push_back(end);
    return fitting;
}

}  // namespace dredger
