#include "repairing/archive/deflate_rest.h"

#include <algorithm>
#include <array>
#include <span>
#include <vector>

namespace dredger::repairing {
namespace {

constexpr std::uint64_t kMostPacked = 32 << 20;  // bytes that are searched
constexpr std::size_t kMostUnpacked = 64 << 20;  // bytes
constexpr std::size_t kWindow = 32768;           // bytes that references reach back (3.2.5)
constexpr std::uint64_t kMostBehind = 64;        // bytes between the end of the stream and what follows it
constexpr std::uint16_t kUnknown = 256;          // in place of a byte
constexpr std::size_t kLeastKnown = 256;         // bytes that are worth having
constexpr unsigned kEndOfBlock = 256, kLongestCode = 15;

// The lowest bit of each byte first.
class Bits {
  public:
    Bits(std::span<const std::uint8_t> bytes, std::uint64_t at) : bytes_(bytes), at_(at) {}
    unsigned take(unsigned count) {
        unsigned value = 0;
        for (unsigned i = 0; i < count; ++i, ++at_)
            if (at_ / 8 < bytes_.size()) value |= (bytes_[static_cast<std::size_t>(at_ / 8)] >> (at_ % 8) & 1U) << i;
        return value;
    }
    void align() { at_ = (at_ + 7) / 8 * 8; }
    std::uint64_t at() const { return at_; }
    bool ok() const { return at_ <= bytes_.size() * 8; }

  private:
    std::span<const std::uint8_t> bytes_;
    std::uint64_t at_;
};

// Codes of 3.2.2, decoded length by length.
class Code {
  public:
    // False where the lengths are those of no code, or leave some of it unused.
    bool define(std::span<const std::uint8_t> lengths) {
        counts_.fill(0);
        symbols_.clear();
        for (const std::uint8_t length : lengths) ++counts_[length];
        counts_[0] = 0;
        int left = 1;
        for (unsigned length = 1; length <= kLongestCode; ++length) {
            left = 2 * left - counts_[length];
            if (left < 0) return false;
        }
        for (std::uint8_t length = 1; length <= kLongestCode; ++length)
            for (std::size_t symbol = 0; symbol < lengths.size(); ++symbol)
                if (lengths[symbol] == length) symbols_.push_back(static_cast<std::uint16_t>(symbol));
        // One code alone may be of one bit (3.2.7).
        return left == 0 || symbols_.size() <= 1;
    }
    // A symbol; ~0 where there is none of this code.
    unsigned decode(Bits& bits) const {
        int code = 0, first = 0, index = 0;
        for (unsigned length = 1; length <= kLongestCode; ++length) {
            code |= static_cast<int>(bits.take(1));
            const int count = counts_[length];
            if (code - count < first) return symbols_[static_cast<std::size_t>(index + code - first)];
            index += count;
            first = (first + count) << 1;
            code <<= 1;
        }
        return ~0U;
    }

  private:
    std::array<int, kLongestCode + 1> counts_{};
    std::vector<std::uint16_t> symbols_;
};

bool is_text(unsigned byte) { return byte >= 0x20 ? byte != 0x7F : byte == '\n' || byte == '\r' || byte == '\t'; }

class Unpacking {
  public:
    explicit Unpacking(std::span<const std::uint8_t> packed) : packed_(packed) {}

    // Whether what begins at this bit is blocks of text up to the end of the stream, the first one with codes of its
    // own.
    bool run(std::uint64_t bit) {
        out_.clear();
        Bits bits(packed_, bit);
        for (bool is_first = true;; is_first = false) {
            const bool is_last = bits.take(1) != 0;
            const unsigned type = bits.take(2);
            if ((is_first && type != 2) || type == 3 || !bits.ok()) return false;
            if (type == 0 ? !stored(bits) : !packed_block(bits, type == 2)) return false;
            if (is_last) return bits.ok() && packed_.size() * 8 - bits.at() <= 8 * kMostBehind;
            if (out_.size() > kMostUnpacked) return false;
        }
    }
    std::span<const std::uint16_t> out() const { return out_; }

  private:
    bool stored(Bits& bits) {
        bits.align();
        const unsigned length = bits.take(16);
        if ((bits.take(16) ^ length) != 0xFFFF) return false;
        for (unsigned i = 0; i < length; ++i)
            if (!put(bits.take(8)) || !bits.ok()) return false;
        return true;
    }

    bool put(unsigned byte) {
        out_.push_back(static_cast<std::uint16_t>(byte));
        return is_text(byte);
    }

    bool packed_block(Bits& bits, bool has_codes) {
        // Base and further bits of lengths and distances (3.2.5).
        static constexpr std::uint16_t kLength[] = {3,  4,  5,  6,  7,  8,  9,  10, 11,  13,  15,  17,  19,  23, 27,
                                                    31, 35, 43, 51, 59, 67, 83, 99, 115, 131, 163, 195, 227, 258};
        static constexpr std::uint8_t kLengthBits[] = {0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2,
                                                       2, 3, 3, 3, 3, 4, 4, 4, 4, 5, 5, 5, 5, 0};
        static constexpr std::uint16_t kDistance[] = {1,    2,    3,    4,    5,    7,    9,    13,    17,    25,
                                                      33,   49,   65,   97,   129,  193,  257,  385,   513,   769,
                                                      1025, 1537, 2049, 3073, 4097, 6145, 8193, 12289, 16385, 24577};
        static constexpr std::uint8_t kDistanceBits[] = {0, 0, 0, 0, 1, 1, 2, 2,  3,  3,  4,  4,  5,  5,  6,
                                                         6, 7, 7, 8, 8, 9, 9, 10, 10, 11, 11, 12, 12, 13, 13};
        if (has_codes ? !read_codes(bits) : !usual_codes()) return false;
        while (bits.ok()) {
            const unsigned symbol = literals_.decode(bits);
            if (symbol < kEndOfBlock) {
                if (!put(symbol)) return false;
                continue;
            }
            if (symbol == kEndOfBlock) return true;
            if (symbol - 257 >= std::size(kLength)) return false;
            const unsigned length = kLength[symbol - 257] + bits.take(kLengthBits[symbol - 257]);
            const unsigned far = distances_.decode(bits);
            if (far >= std::size(kDistance)) return false;
            const std::size_t distance = kDistance[far] + bits.take(kDistanceBits[far]);
            if (distance > kWindow || out_.size() > kMostUnpacked) return false;
            for (unsigned i = 0; i < length; ++i)
                out_.push_back(distance > out_.size() ? kUnknown : out_[out_.size() - distance]);
        }
        return false;
    }

    bool usual_codes() {
        std::array<std::uint8_t, 288> lengths{};
        std::fill(lengths.begin(), lengths.begin() + 144, std::uint8_t{8});
        std::fill(lengths.begin() + 144, lengths.begin() + 256, std::uint8_t{9});
        std::fill(lengths.begin() + 256, lengths.begin() + 280, std::uint8_t{7});
        std::fill(lengths.begin() + 280, lengths.end(), std::uint8_t{8});
        std::array<std::uint8_t, 32> distances{};
        distances.fill(5);
        return literals_.define(lengths) && distances_.define(distances);
    }

    // 3.2.7.
    bool read_codes(Bits& bits) {
        static constexpr std::uint8_t kOrder[] = {16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15};
        const unsigned literals = 257 + bits.take(5);
        const unsigned distances = 1 + bits.take(5);
        const unsigned count = 4 + bits.take(4);
        if (literals > 286 || distances > 30) return false;
        std::array<std::uint8_t, 19> of_lengths{};
        for (unsigned i = 0; i < count; ++i) of_lengths[kOrder[i]] = static_cast<std::uint8_t>(bits.take(3));
        Code code;
        if (!code.define(of_lengths)) return false;
        std::vector<std::uint8_t> lengths;
        while (lengths.size() < literals + distances && bits.ok()) {
            const unsigned symbol = code.decode(bits);
            if (symbol < 16) {
                lengths.push_back(static_cast<std::uint8_t>(symbol));
                continue;
            }
            if (symbol > 18 || (symbol == 16 && lengths.empty())) return false;
            const std::uint8_t repeated = symbol == 16 ? lengths.back() : std::uint8_t{0};
            const unsigned times = symbol == 16   ? 3 + bits.take(2)
                                   : symbol == 17 ? 3 + bits.take(3)
                                                  : 11 + bits.take(7);
            lengths.insert(lengths.end(), times, repeated);
        }
        if (lengths.size() != literals + distances || lengths[kEndOfBlock] == 0) return false;
        const std::span<const std::uint8_t> all(lengths);
        return literals_.define(all.first(literals)) && distances_.define(all.subspan(literals));
    }

    std::span<const std::uint8_t> packed_;
    std::vector<std::uint16_t> out_;  // kUnknown where a reference reaches in front of it
    Code literals_, distances_;
};

}  // namespace

std::optional<DeflateRest> deflate_rest(Reader& content, std::uint64_t from, std::uint64_t to,
                                        const std::function<bool()>& should_stop) {
    to = std::min(to, content.size());
    if (from >= to || to - from > kMostPacked) return std::nullopt;
    std::vector<std::uint8_t> packed;
    while (from + packed.size() < to) {
        const std::string piece =
            content.text(from + packed.size(),
                         static_cast<std::size_t>(std::min<std::uint64_t>(1 << 20, to - from - packed.size())));
        if (piece.empty()) return std::nullopt;
        packed.insert(packed.end(), piece.begin(), piece.end());
    }
    Unpacking unpacking(packed);
    for (std::uint64_t bit = 0; bit < packed.size() * 8; ++bit) {
        if (bit % 65536 == 0 && should_stop()) return std::nullopt;
        if (!unpacking.run(bit)) continue;
        DeflateRest rest;
        rest.from = from + bit / 8;
        for (const std::uint16_t byte : unpacking.out()) {
            ++(byte == kUnknown ? rest.unknown : rest.known);
            if (byte == kUnknown)
                rest.text += "\xEF\xBF\xBD";
            else
                rest.text += static_cast<char>(byte);
        }
        if (rest.known < kLeastKnown) return std::nullopt;
        return rest;
    }
    return std::nullopt;
}

}  // namespace dredger::repairing
