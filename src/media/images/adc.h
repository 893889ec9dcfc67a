// ADC, in which older disk images of the Mac are packed ("Apple Data Compression"). There is no published
// specification: the format is as several open readers of these images describe it.
#pragma once

#include <cstddef>
#include <span>

namespace dredger::images {

// Unpacks as far as `packed` makes sense and there is room, and tells how many bytes came out.
std::size_t adc_unpack(std::span<const std::byte> packed, std::span<std::byte> into);

}  // namespace dredger::images
