#include "filesystems/exfat/upcase.h"

#include <numeric>

namespace dredger::exfat {
namespace {

constexpr std::size_t kLetters = 0x10000;
constexpr std::uint16_t kRunOfItself = 0xFFFF;  // the next element is a number of letters

}  // namespace

Upcase::Upcase() : upper_(kLetters) {
    std::iota(upper_.begin(), upper_.end(), char16_t{0});
    for (char16_t c = u'a'; c <= u'z'; ++c) upper_[c] = static_cast<char16_t>(c - u'a' + u'A');
}

Upcase Upcase::parse(ByteView table) {
    Upcase upcase;
    std::size_t letter = 0;
    for (std::size_t at = 0; at + 1 < table.size() && letter < kLetters; at += 2) {
        const std::uint16_t value = table.u16le(at).value_or(0);
        if (value == kRunOfItself && at + 3 < table.size()) {
            at += 2;
            for (std::size_t n = table.u16le(at).value_or(0); n > 0 && letter < kLetters; --n, ++letter)
                upcase.upper_[letter] = static_cast<char16_t>(letter);
        } else {
            upcase.upper_[letter++] = static_cast<char16_t>(value);
        }
    }
    return upcase;
}

std::uint16_t Upcase::hash(std::u16string_view name) const {
    std::uint16_t sum = 0;
    const auto add = [&](unsigned byte) {
        sum = static_cast<std::uint16_t>(static_cast<std::uint16_t>(sum << 15U | sum >> 1U) + byte);
    };
    for (const char16_t c : name) {
        add(upper_[c] & 0xFFU);
        add(upper_[c] >> 8U);
    }
    return sum;
}

std::uint32_t table_checksum(ByteView table) {
    std::uint32_t sum = 0;
    for (const std::byte b : table.bytes()) sum = (sum << 31U | sum >> 1U) + std::to_integer<std::uint32_t>(b);
    return sum;
}

}  // namespace dredger::exfat
