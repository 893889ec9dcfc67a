// LZFSE and LZVN, in which Apple's file systems and disk images pack content.
// Source: the format as its published reference implementation documents it (lzfse_internal.h, lzvn_decode_base.h).
#pragma once

#include <cstddef>
#include <span>

namespace dredger {

// Both unpack as far as `packed` makes sense and there is room, and tell how many bytes came out. All of them are
// right as far as the packed bytes are: neither format has a checksum.

// A stream of blocks, which may hold LZVN too.
std::size_t lzfse_unpack(std::span<const std::byte> packed, std::span<std::byte> into);

// LZVN by itself, without a frame.
std::size_t lzvn_unpack(std::span<const std::byte> packed, std::span<std::byte> into);

}  // namespace dredger
