// Bits of a stream in memory, the highest of each byte first. Behind the end come zeros, and it is not ok() any more.
#pragma once

#include <cstdint>
#include <span>

namespace dredger::repairing {

class BitReader {
  public:
    explicit BitReader(std::span<const std::uint8_t> bytes) : bytes_(bytes) {}

    bool ok() const { return at_ <= bytes_.size() * 8; }
    std::size_t at() const { return at_; }
    void skip(std::size_t bits) { at_ += bits; }
    void align() { at_ = (at_ + 7) / 8 * 8; }

    std::uint32_t bits(unsigned count) {  // at most 32
        std::uint64_t value = 0;
        for (std::size_t i = 0; i < 5; ++i) {
            const std::size_t byte = at_ / 8 + i;
            value = value << 8 | (byte < bytes_.size() ? bytes_[byte] : 0U);
        }
        value = value << (24 + at_ % 8);
        at_ += count;
        return count == 0 ? 0 : static_cast<std::uint32_t>(value >> (64 - count));
    }
    bool bit() { return bits(1) != 0; }

    // Exponential Golomb codes (ITU-T H.264, 9.1).
    std::uint32_t ue() {
        unsigned zeros = 0;
        while (zeros < 32 && ok() && !bit()) ++zeros;
        return zeros >= 32 ? ~std::uint32_t{0} : (1U << zeros) - 1 + bits(zeros);
    }
    std::int32_t se() {
        const std::uint32_t code = ue();
        return (code & 1U) != 0 ? static_cast<std::int32_t>(code / 2 + 1) : -static_cast<std::int32_t>(code / 2);
    }

  private:
    std::span<const std::uint8_t> bytes_;
    std::size_t at_ = 0;
};

}  // namespace dredger::repairing
