#include "base/digest.h"

#include <array>
#include <fmt/format.h>
#include <libdeflate.h>
#include <openssl/evp.h>

namespace dredger {

struct Sha256::State {
    EVP_MD_CTX* context = EVP_MD_CTX_new();
    ~State() { EVP_MD_CTX_free(context); }
};

Sha256::Sha256() : state_(std::make_unique<State>()) { EVP_DigestInit_ex(state_->context, EVP_sha256(), nullptr); }
Sha256::~Sha256() = default;

void Sha256::add(std::span<const std::byte> bytes) { EVP_DigestUpdate(state_->context, bytes.data(), bytes.size()); }

std::string Sha256::finish() {
    std::array<unsigned char, 32> digest{};
    EVP_DigestFinal_ex(state_->context, digest.data(), nullptr);
    return fmt::format("{:02x}", fmt::join(digest, ""));
}

std::uint32_t crc32(std::span<const std::byte> bytes, std::uint32_t so_far) {
    return libdeflate_crc32(so_far, bytes.data(), bytes.size());
}

}  // namespace dredger
