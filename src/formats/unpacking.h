// Packed streams within content: where they end, and whether they are whole.
#pragma once

#include <string>

#include "base/stream_decoder.h"
#include "formats/reader.h"

namespace dredger::formats {

struct Unpacked {
    StreamDecoder::State state = StreamDecoder::State::failed;
    std::uint64_t packed = 0;  // bytes of the stream; up to where it makes sense unless it ended
    std::uint64_t alike = 0;   // what comes out of the first ones is of one kind, as far as that was looked at
    std::uint64_t bytes = 0;   // that came out
    std::uint32_t crc = 0;     // CRC-32 of them
    std::string head;          // the first ones of them
    bool ended() const { return state == StreamDecoder::State::ended; }
};

// Unpacks what stands in [at, at + most) and keeps the first `head` bytes that come out.
Unpacked unpack(Reader& content, Packing packing, std::uint64_t at, std::uint64_t most, std::size_t head = 0);

// CRC-32 of a part of the content.
std::uint32_t crc32_of(Reader& content, std::uint64_t at, std::uint64_t length);

}  // namespace dredger::formats
