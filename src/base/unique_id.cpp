#include "base/unique_id.h"

#include <array>
#include <openssl/rand.h>
#include <span>

#include "base/text.h"

namespace dredger {

std::string unique_id() {
    std::array<unsigned char, 16> bytes{};
    (void)RAND_bytes(bytes.data(), static_cast<int>(bytes.size()));
    bytes[6] = static_cast<unsigned char>((bytes[6] & 0x0FU) | 0x40U);
    bytes[8] = static_cast<unsigned char>((bytes[8] & 0x3FU) | 0x80U);
    return uuid_text(std::as_bytes(std::span(bytes)));
}

}  // namespace dredger
