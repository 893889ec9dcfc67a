// The codebooks and scalefactor bands of AAC (ISO/IEC 14496-3, 4.A.1 and tables 4.129 to 4.147).
#pragma once

#include <array>
#include <cstdint>
#include <span>

namespace dredger::repairing {

// Codes of one length follow each other as numbers, and those of a length begin behind the ones of the length before.
struct AacCodebook {
    std::array<std::uint16_t, 19> counts;    // codes of 1 to 19 bits
    std::span<const std::uint16_t> symbols;  // in the order of their codes
};

extern const std::array<AacCodebook, 12> kAacCodebooks;  // that of scalefactors, and the spectral ones by their numbers

// Where each band begins, and where the last one ends; coefficients of one window. Empty where the index is none.
std::span<const std::uint16_t> aac_bands(unsigned rate_index, bool is_short);

}  // namespace dredger::repairing
