// LZNT1, as NTFS packs file content ([MS-XCA] "LZNT1 Algorithm Details", section 2.5).
#pragma once

#include "base/bytes.h"

namespace dredger {

// Unpacks into `into`, which is as large as the content that was packed, and tells how many of its bytes are right:
// fewer than all where `packed` stops making sense or breaks off. What follows them is zeros.
std::size_t lznt1_unpack(ByteView packed, std::span<std::byte> into);

}  // namespace dredger
