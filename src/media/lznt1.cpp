#include "media/lznt1.h"

#include <algorithm>
#include <optional>

namespace dredger {
namespace {

constexpr std::size_t kChunk = 4096;  // bytes of content, each packed by itself
constexpr std::uint16_t kLengthMask = 0x0FFF;
constexpr std::uint16_t kSignatureMask = 0x7000;
constexpr std::uint16_t kSignature = 0x3000;
constexpr std::uint16_t kPacked = 0x8000;
constexpr unsigned kShortestCopy = 3;

// How many bits of a back reference tell the length: the further on in the chunk, the more the distance needs.
unsigned length_bits(std::size_t position) {
    unsigned bits = 12;
    for (std::size_t reach = 16; reach < position; reach <<= 1U) --bits;
    return bits;
}

// Nothing where a reference reaches before the chunk or past its end; else how many bytes came out.
std::optional<std::size_t> unpack_chunk(ByteView in, std::span<std::byte> out) {
    std::size_t at = 0;
    std::size_t done = 0;
    while (at < in.size()) {
        const unsigned flags = in.u8(at++).value_or(0);
        for (unsigned bit = 0; bit < 8 && at < in.size(); ++bit) {
            if ((flags >> bit & 1U) == 0) {
                if (done == out.size()) return std::nullopt;
                out[done++] = in.bytes()[at++];
                continue;
            }
            const auto reference = in.u16le(at);
            if (!reference || done == 0) return std::nullopt;
            at += 2;
            const unsigned bits = length_bits(done);
            const std::size_t distance = (*reference >> bits) + 1U;
            const std::size_t length = (*reference & ((1U << bits) - 1U)) + kShortestCopy;
            if (distance > done || length > out.size() - done) return std::nullopt;
            // Source and target may overlap: a run repeats what it has just written.
            for (std::size_t i = 0; i < length; ++i, ++done) out[done] = out[done - distance];
        }
    }
    return done;
}

}  // namespace

std::size_t lznt1_unpack(ByteView packed, std::span<std::byte> into) {
    std::fill(into.begin(), into.end(), std::byte{0});
    std::size_t at = 0;
    for (std::size_t done = 0; done < into.size(); done += kChunk) {
        const auto header = packed.u16le(at);
        // A zero header or the exact end: the rest was zeros.
        if (at == packed.size() || (header && *header == 0)) return into.size();
        if (!header || (*header & kSignatureMask) != kSignature) return done;
        const auto body = packed.slice(at + 2, (*header & kLengthMask) + std::size_t{1});
        if (!body) return done;
        const auto chunk = into.subspan(done, std::min(kChunk, into.size() - done));
        if ((*header & kPacked) != 0) {
            if (!unpack_chunk(*body, chunk)) {
                std::fill(chunk.begin(), chunk.end(), std::byte{0});
                return done;
            }
        } else {
            std::copy_n(body->bytes().begin(), std::min(body->size(), chunk.size()), chunk.begin());
        }
        at += 2 + body->size();
    }
    return into.size();
}

}  // namespace dredger
