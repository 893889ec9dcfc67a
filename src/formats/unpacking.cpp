#include "formats/unpacking.h"

#include <algorithm>

#include "base/digest.h"
#include "formats/bytes_of_content.h"

namespace dredger::formats {

Unpacked unpack(Reader& content, Packing packing, std::uint64_t at, std::uint64_t most, std::size_t head) {
    Unpacked result;
    StreamDecoder decoder(packing);
    const std::uint64_t end = at + std::min(most, content.size() - std::min(at, content.size()));
    result.state = StreamDecoder::State::going;
    while (at < end && result.state == StreamDecoder::State::going && !content.budget().is_spent()) {
        auto here = content.some(at);
        if (here.empty()) break;
        here = here.first(static_cast<std::size_t>(std::min<std::uint64_t>(here.size(), end - at)));
        std::size_t used = 0;
        result.state = decoder.feed(here, used, [&](std::span<const std::byte> out) {
            result.bytes += out.size();
            (void)content.budget().spend_unpacked(out.size());
            result.crc = crc32(out, result.crc);
            if (result.head.size() < head)
                result.head.append(reinterpret_cast<const char*>(out.data()),
                                   std::min(out.size(), head - result.head.size()));
        });
        at += used;
        result.packed += used;
        if (used == 0) break;
    }
    return result;
}

std::uint32_t crc32_of(Reader& content, std::uint64_t at, std::uint64_t length) {
    std::uint32_t crc = 0;
    each_span(content, at, length, [&](std::span<const std::byte> bytes) { crc = crc32(bytes, crc); });
    return crc;
}

}  // namespace dredger::formats
