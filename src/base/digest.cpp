#include "base/digest.h"

#include <array>
#include <fmt/format.h>
#include <libdeflate.h>
#include <openssl/evp.h>
#include <xxhash.h>
#if defined(__x86_64__) && __has_include(<xxh_x86dispatch.h>)
#include <xxh_x86dispatch.h>  // the same functions, by the widest registers that the processor has
#endif

#include "base/text.h"

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
    return hexadecimal(std::as_bytes(std::span(digest)));
}

struct Fingerprinter::State {
    XXH3_state_t* hash = XXH3_createState();
    ~State() { XXH3_freeState(hash); }
};

Fingerprinter::Fingerprinter() : state_(std::make_unique<State>()) { XXH3_128bits_reset(state_->hash); }
Fingerprinter::~Fingerprinter() = default;

void Fingerprinter::add(std::span<const std::byte> bytes) {
    XXH3_128bits_update(state_->hash, bytes.data(), bytes.size());
}

Fingerprint Fingerprinter::finish() const {
    const XXH128_hash_t hash = XXH3_128bits_digest(state_->hash);
    return {hash.high64, hash.low64};
}

std::string text_of(const Fingerprint& print) { return fmt::format("{:016x}{:016x}", print.high, print.low); }

std::uint32_t crc32(std::span<const std::byte> bytes, std::uint32_t so_far) {
    return libdeflate_crc32(so_far, bytes.data(), bytes.size());
}

}  // namespace dredger
