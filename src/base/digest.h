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

// CRC-32 as GPT and ZIP use it (polynomial EDB88320, reflected), of bytes that follow those which gave `so_far`.
std::uint32_t crc32(std::span<const std::byte> bytes, std::uint32_t so_far = 0);

}  // namespace dredger
