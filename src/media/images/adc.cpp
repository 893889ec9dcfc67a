#include "media/images/adc.h"

#include <algorithm>

namespace dredger::images {

// A byte tells what follows: plain bytes, or a copy of what came out before, near or far.
std::size_t adc_unpack(std::span<const std::byte> packed, std::span<std::byte> into) {
    std::size_t at = 0, out = 0;
    const auto byte = [&](std::size_t where) { return std::to_integer<std::size_t>(packed[where]); };
    while (at < packed.size() && out < into.size()) {
        const std::size_t code = byte(at);
        if ((code & 0x80) != 0) {
            const std::size_t length = std::min({(code & 0x7F) + 1, packed.size() - at - 1, into.size() - out});
            std::copy_n(packed.begin() + static_cast<std::ptrdiff_t>(at + 1), length,
                        into.begin() + static_cast<std::ptrdiff_t>(out));
            out += length;
            at += 1 + (code & 0x7F) + 1;
            continue;
        }
        const bool is_far = (code & 0x40) != 0;
        const std::size_t size = is_far ? 3 : 2;
        if (packed.size() - at < size) break;
        const std::size_t distance = (is_far ? byte(at + 1) << 8 | byte(at + 2) : (code & 3) << 8 | byte(at + 1)) + 1;
        std::size_t length = is_far ? (code & 0x3F) + 4 : (code >> 2 & 0xF) + 3;
        if (distance > out) break;
        for (length = std::min(length, into.size() - out); length > 0; --length, ++out)
            into[out] = into[out - distance];
        at += size;
    }
    return out;
}

}  // namespace dredger::images
