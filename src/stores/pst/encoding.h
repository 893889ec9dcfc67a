// How stores scramble their data blocks ([MS-PST] 5.1, 5.2), and how they sum what they keep (5.3, 5.5).
#pragma once

#include <cstdint>
#include <span>

#include "stores/pst/structures.h"

namespace dredger::stores::pst {

// In place. `bid`: of the block. A method that is not known leaves the bytes as they are.
void decode(std::span<std::byte> block, std::uint8_t method, std::uint64_t bid);

std::uint32_t compute_crc(std::span<const std::byte> bytes);
std::uint16_t compute_sig(std::uint64_t ib, std::uint64_t bid);

}  // namespace dredger::stores::pst
