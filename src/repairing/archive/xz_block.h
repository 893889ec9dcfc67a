// A block of an xz stream (The .xz File Format 1.2, 3), which can be unpacked without those in front of it.
#pragma once

#include <functional>
#include <string_view>

#include "formats/reader.h"

namespace dredger::repairing {

inline constexpr std::uint64_t kXzHeader = 12;  // bytes of a stream's header

// Hands over what comes out of the block at `at`. `stream`: where the stream begins whose header tells which check its
// blocks have. The bytes that the block fills; 0 where there is none, or its check is off, which shows at its end.
using VisitBytes = std::function<void(std::string_view)>;
std::uint64_t unpack_xz_block(Reader& content, std::uint64_t stream, std::uint64_t at, const VisitBytes& visit);

}  // namespace dredger::repairing
