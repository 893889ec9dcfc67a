// Checksums.
#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <span>
#include <string>

namespace dredger {

// SHA-256 of bytes that come piece by piece.
class Sha256 {
  public:
    Sha256();
    ~Sha256();
    Sha256(const Sha256&) = delete;
    Sha256& operator=(const Sha256&) = delete;

    void add(std::span<const std::byte> bytes);
    // 64 hexadecimal digits. Nothing may be added afterwards.
    std::string finish();

  private:
    struct State;
    std::unique_ptr<State> state_;
};

// What tells contents apart that nobody made to look alike: XXH3 with 128 bits.
struct Fingerprint {
    std::uint64_t high = 0, low = 0;
    auto operator<=>(const Fingerprint&) const = default;
};

// As xxh128sum prints it: 32 hexadecimal digits.
std::string text_of(const Fingerprint& print);

// Of bytes that come piece by piece.
class Fingerprinter {
  public:
    Fingerprinter();
    ~Fingerprinter();
    Fingerprinter(const Fingerprinter&) = delete;
    Fingerprinter& operator=(const Fingerprinter&) = delete;

    void add(std::span<const std::byte> bytes);
    Fingerprint finish() const;

  private:
    struct State;
    std::unique_ptr<State> state_;
};

// CRC-32 as GPT and ZIP use it (polynomial EDB88320, reflected), of bytes that follow those which gave `so_far`.
std::uint32_t crc32(std::span<const std::byte> bytes, std::uint32_t so_far = 0);

}  // namespace dredger
