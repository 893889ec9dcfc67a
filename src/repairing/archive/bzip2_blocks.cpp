#include "repairing/archive/bzip2_blocks.h"

#include "base/stream_decoder.h"
#include "formats/bytes_of_content.h"

namespace dredger::repairing {
namespace {

constexpr std::uint64_t kMarkBits = 48;
constexpr std::uint64_t kBlockMark = 0x314159265359;
constexpr std::uint64_t kEndMark = 0x177245385090;
constexpr std::uint64_t kMost = 1200000;         // bytes that a block can be packed into
constexpr std::size_t kMostUnpacked = 46 << 20;  // 900,000 bytes in which runs of 255 are counted

// Bits from any bit on, as bytes.
class BitWriter {
  public:
    void add(std::uint64_t value, unsigned bits) {
        for (unsigned i = bits; i-- > 0;) {
            byte_ = static_cast<unsigned char>(byte_ << 1 | (value >> i & 1U));
            if (++used_ % 8 == 0) bytes_.push_back(static_cast<char>(byte_));
        }
    }
    std::string finish() {
        while (used_ % 8 != 0) add(0, 1);
        return std::move(bytes_);
    }

  private:
    std::string bytes_;
    unsigned char byte_ = 0;
    std::uint64_t used_ = 0;
};

}  // namespace

std::vector<Bzip2Block> find_bzip2_blocks(Reader& content) {
    constexpr std::uint64_t kMask = (std::uint64_t{1} << kMarkBits) - 1;
    std::vector<Bzip2Block> blocks;
    std::uint64_t last = 0;  // 48 bits
    std::uint64_t bit = 0;   // behind them
    bool is_open = false;
    const auto close = [&](std::uint64_t end, bool has_end) {
        if (!is_open) return;
        blocks.back().bits = end - blocks.back().first_bit;
        blocks.back().has_end = has_end;
        is_open = false;
    };
    formats::each_span(content, 0, content.size(), [&](std::span<const std::byte> bytes) {
        for (const std::byte byte : bytes)
            for (unsigned i = 8; i-- > 0;) {
                last = (last << 1 | (std::to_integer<unsigned>(byte) >> i & 1U)) & kMask;
                ++bit;
                if (last == kEndMark) close(bit - kMarkBits, true);
                if (last != kBlockMark) continue;
                close(bit - kMarkBits, false);
                blocks.push_back({bit - kMarkBits});
                is_open = true;
            }
    });
    close(bit, false);
    // Where the stream's header and the first mark are damaged, its block may still stand between them and the next.
    constexpr std::uint64_t kHeaderBits = 32;
    const std::uint64_t first = blocks.empty() ? bit : blocks.front().first_bit;
    if (first > kHeaderBits + kMarkBits) blocks.insert(blocks.begin(), {kHeaderBits, first - kHeaderBits, false});
    return blocks;
}

std::string unpack_bzip2_block(Reader& content, const Bzip2Block& block) {
    if (block.bits / 8 > kMost || block.bits < kMarkBits + 32) return {};
    const std::string packed = content.text(block.first_bit / 8, static_cast<std::size_t>(block.bits / 8 + 2));
    BitWriter writer;
    for (const char c : std::string_view("BZh9")) writer.add(static_cast<unsigned char>(c), 8);
    writer.add(kBlockMark, kMarkBits);
    std::uint64_t crc = 0;
    const std::uint64_t skip = block.first_bit % 8;
    for (std::uint64_t i = kMarkBits; i < block.bits; ++i) {
        const std::uint64_t at = skip + i;
        const unsigned bit =
            at / 8 < packed.size()
                ? static_cast<unsigned char>(packed[static_cast<std::size_t>(at / 8)]) >> (7 - at % 8) & 1U
                : 0U;
        if (i < kMarkBits + 32) crc = crc << 1 | bit;
        writer.add(bit, 1);
    }
    // With one block its checksum is that of the stream, too.
    writer.add(kEndMark, kMarkBits);
    writer.add(crc, 32);
    const std::string stream = writer.finish();
    StreamDecoder decoder(Packing::bzip2);
    std::string out;
    std::size_t used = 0;
    const auto state = decoder.feed(std::as_bytes(std::span(stream)), used, [&](std::span<const std::byte> bytes) {
        if (out.size() < kMostUnpacked) out.append(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    });
    return state == StreamDecoder::State::ended ? out : std::string();
}

}  // namespace dredger::repairing
