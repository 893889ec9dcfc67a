#include "base/unique_id.h"

#include <array>
#include <fmt/format.h>
#include <openssl/rand.h>

namespace dredger {

std::string unique_id() {
    std::array<unsigned char, 16> bytes{};
    (void)RAND_bytes(bytes.data(), static_cast<int>(bytes.size()));
    bytes[6] = static_cast<unsigned char>((bytes[6] & 0x0FU) | 0x40U);
    bytes[8] = static_cast<unsigned char>((bytes[8] & 0x3FU) | 0x80U);
    std::string text;
    for (std::size_t i = 0; i < bytes.size(); ++i) {
        if (i == 4 || i == 6 || i == 8 || i == 10) text += '-';
        text += fmt::format("{:02x}", bytes[i]);
    }
    return text;
}

}  // namespace dredger
