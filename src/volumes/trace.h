// What one structure of a file system, found somewhere on a medium, tells of the volume that it belongs to.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "media/medium.h"

namespace dredger {

struct VolumeTrace {
    std::string filesystem;  // "NTFS"
    std::string label;       // where the structure has one
    std::uint64_t offset = 0;
    std::uint64_t length = 0;   // both bytes, on the medium
    unsigned agreeing = 0;      // structures that were found where this one says that they are
    std::string evidence;       // which they are, for the technician
    std::uint64_t seen_at = 0;  // bytes, on the medium
};

// How structures of a file system are recognised that begin with a sector.
struct Tracer {
    std::size_t mark_at;    // bytes from the sector's start, within the sector
    std::string_view mark;  // a sector without it is none of them
    // Looks at what stands at byte `at` of `medium`: `there` is that sector and some more, as far as the medium goes.
    // None where it is no structure of this file system, or nothing else on the medium agrees with it.
    std::optional<VolumeTrace> (*look)(const Medium& medium, std::uint64_t at, ByteView there);
};

// What the sectors tell that begin within `sectors`: these stand at byte `at` of `medium`, itself the start of a
// sector.
void look_for_traces(const Medium& medium, std::span<const Tracer> tracers, std::uint64_t at,
                     std::span<const std::byte> sectors, std::vector<VolumeTrace>& found);
// Keeps one trace of each file system at each place: the one that more agrees with, the first of such.
void keep_trace(VolumeTrace&& trace, std::vector<VolumeTrace>& traces);

// The bytes at `offset`, where they lie on the medium and can all be read.
std::optional<std::vector<std::byte>> bytes_at(const Medium& medium, std::uint64_t offset, std::size_t length);
// Whether `expected` stands at `offset`.
bool stands_at(const Medium& medium, std::uint64_t offset, std::string_view expected);

}  // namespace dredger
