// Packed streams within content, unpacked piece by piece to learn where they end and whether they are whole.
#pragma once

#include <functional>
#include <memory>

#include "formats/reader.h"

namespace dredger::formats {

enum class Packing { deflate, zlib, gzip, bzip2, xz, zstd };

class Unpacker {
  public:
    explicit Unpacker(Packing packing);
    ~Unpacker();
    Unpacker(const Unpacker&) = delete;
    Unpacker& operator=(const Unpacker&) = delete;

    struct Stream;  // of one packing
    enum class State { going, ended, failed };
    // Unpacks `packed`; `visit` gets what comes out. Sets `used` to how many bytes of it belong to the stream.
    State feed(std::span<const std::byte> packed, std::size_t& used,
               const std::function<void(std::span<const std::byte>)>& visit);

  private:
    std::unique_ptr<Stream> stream_;
};

struct Unpacked {
    Unpacker::State state = Unpacker::State::failed;
    std::uint64_t packed = 0;  // bytes of the stream; up to where it makes sense unless it ended
    std::uint64_t bytes = 0;   // that came out
    std::uint32_t crc = 0;     // CRC-32 of them
    std::string head;          // the first ones of them
    bool ended() const { return state == Unpacker::State::ended; }
};

// Unpacks what stands in [at, at + most) and keeps the first `head` bytes that come out.
Unpacked unpack(Reader& content, Packing packing, std::uint64_t at, std::uint64_t most, std::size_t head = 0);

// CRC-32 of a part of the content.
std::uint32_t crc32_of(Reader& content, std::uint64_t at, std::uint64_t length);

}  // namespace dredger::formats
