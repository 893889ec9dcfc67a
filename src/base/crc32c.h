// The CRC-32C (Castagnoli) by which ext4, XFS and Btrfs check their structures, as the Linux kernel runs it: begun with
// any value, and not inverted at the end.
#pragma once

#include <boost/crc.hpp>
#include <cstdint>
#include <span>

namespace dredger {

class Crc32c {
  public:
    explicit Crc32c(std::uint32_t begin = ~std::uint32_t{0}) : crc_(mirrored(begin)) {}

    Crc32c& add(std::span<const std::byte> bytes) {
        crc_.process_bytes(bytes.data(), bytes.size());
        return *this;
    }
    template <class T>
    Crc32c& add_value(const T& value) {
        return add(std::as_bytes(std::span(&value, 1)));
    }
    std::uint32_t value() const { return crc_.checksum(); }

  private:
    // Boost takes the value to begin with highest bit first, and gives the result lowest bit first.
    static std::uint32_t mirrored(std::uint32_t value) {
        std::uint32_t mirror = 0;
        for (unsigned bit = 0; bit < 32; ++bit) mirror |= (value >> bit & 1U) << (31 - bit);
        return mirror;
    }

    boost::crc_optimal<32, 0x1EDC6F41, 0, 0, true, true> crc_;
};

// Of one stretch of bytes, inverted at the end as RFC 3720 has it.
std::uint32_t crc32c(std::span<const std::byte> bytes);

}  // namespace dredger
