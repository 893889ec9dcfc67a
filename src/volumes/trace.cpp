#include "volumes/trace.h"

#include <algorithm>
#include <cstring>

#include "base/checked.h"

namespace dredger {
namespace {

constexpr std::size_t kSector = 512;
constexpr std::uint64_t kSeen = 4096;  // bytes that a tracer sees at most

}  // namespace

void look_for_traces(const Medium& medium, std::span<const Tracer> tracers, std::uint64_t at,
                     std::span<const std::byte> sectors, std::vector<VolumeTrace>& found) {
    for (std::size_t from = 0; from + kSector <= sectors.size(); from += kSector) {
        const std::byte* sector = sectors.data() + from;
        for (const Tracer& tracer : tracers) {
            if (sector[tracer.mark_at] != static_cast<std::byte>(tracer.mark.front()) ||
                std::memcmp(sector + tracer.mark_at, tracer.mark.data(), tracer.mark.size()) != 0)
                continue;
            const std::uint64_t place = at + from;
            const auto wanted = static_cast<std::size_t>(std::min(kSeen, medium.size() - place));
            // Mostly it is at hand, but for the last few sectors.
            std::optional<std::vector<std::byte>> read;
            std::span<const std::byte> there = sectors.subspan(from, std::min(wanted, sectors.size() - from));
            if (there.size() < wanted) {
                read = bytes_at(medium, place, wanted);
                if (!read) continue;
                there = *read;
            }
            if (auto trace = tracer.look(medium, place, ByteView(there, place))) found.push_back(std::move(*trace));
        }
    }
}

void keep_trace(VolumeTrace&& trace, std::vector<VolumeTrace>& traces) {
    const auto same = std::find_if(traces.begin(), traces.end(), [&](const VolumeTrace& other) {
        return other.offset == trace.offset && other.filesystem == trace.filesystem;
    });
    if (same == traces.end())
        traces.push_back(std::move(trace));
    else if (trace.agreeing > same->agreeing)
        *same = std::move(trace);
}

std::optional<std::vector<std::byte>> bytes_at(const Medium& medium, std::uint64_t offset, std::size_t length) {
    const auto end = checked_add(offset, std::uint64_t{length});
    if (!end || *end > medium.size()) return std::nullopt;
    auto bytes = medium.bytes(offset, length);
    if (!bytes) return std::nullopt;
    return std::move(*bytes);
}

bool stands_at(const Medium& medium, std::uint64_t offset, std::string_view expected) {
    const auto bytes = bytes_at(medium, offset, expected.size());
    return bytes && ByteView(*bytes).has(0, expected);
}

}  // namespace dredger
