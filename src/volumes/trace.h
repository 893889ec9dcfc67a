// What one structure of a file system, found somewhere on a medium, tells of the volume that it belongs to.
#pragma once

#include <cstdint>
#include <optional>
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

// Looks at what stands at byte `at` of `medium`, the start of a sector: `there` is that sector and some more, as far as
// the medium goes. None where it is no structure of this file system, or nothing else on the medium agrees with it.
using Tracer = std::optional<VolumeTrace> (*)(const Medium& medium, std::uint64_t at, ByteView there);

// The bytes at `offset`, where they lie on the medium and can all be read.
std::optional<std::vector<std::byte>> bytes_at(const Medium& medium, std::uint64_t offset, std::size_t length);
// Whether `expected` stands at `offset`.
bool stands_at(const Medium& medium, std::uint64_t offset, std::string_view expected);

}  // namespace dredger
