#include "formats/vp8.h"

#include <algorithm>
#include <array>
#include <bit>
#include <vector>

#include "base/bytes.h"
#include "formats/vp8_tables.h"

namespace dredger::formats {
namespace {

// Section 7. Behind the end of its data it reads zeros.
class BoolDecoder {
  public:
    explicit BoolDecoder(std::span<const std::byte> data) : data_(data) { value_ = next() << 8 | next(); }

    bool bit(unsigned probability) {
        const unsigned split = 1 + (((range_ - 1) * probability) >> 8);
        const bool is_set = value_ >= split << 8;
        if (is_set) {
            range_ -= split;
            value_ -= split << 8;
        } else {
            range_ = split;
        }
        for (; range_ < 128; range_ <<= 1) {
            value_ <<= 1;
            if (++shifted_ == 8) {
                shifted_ = 0;
                value_ |= next();
            }
        }
        return is_set;
    }
    unsigned number(unsigned bits) {
        unsigned value = 0;
        for (; bits > 0; --bits) value = value << 1 | (bit(128) ? 1U : 0U);
        return value;
    }
    // A number with its sign, behind a mark that there is one.
    void skip_optional(unsigned bits) {
        if (bit(128)) number(bits + 1);
    }
    // Bytes that were taken, those behind the end among them.
    std::size_t used() const { return used_; }

  private:
    unsigned next() {
        const std::size_t at = used_++;
        return at < data_.size() ? std::to_integer<unsigned>(data_[at]) : 0;
    }

    std::span<const std::byte> data_;
    std::size_t used_ = 0;
    unsigned value_ = 0, range_ = 255, shifted_ = 0;
};

// Encoders write up to four bytes to flush theirs, decoders look up to two ahead.
bool is_used_up(const BoolDecoder& decoder, std::size_t size) {
    return decoder.used() <= size + 2 && decoder.used() + 6 >= size;
}

class KeyFrame {
  public:
    explicit KeyFrame(std::span<const std::byte> data) : data_(data) {}

    std::optional<bool> fills() {
        constexpr std::size_t kHead = 10;
        const ByteView head(data_);
        const auto tag = u24(0);
        if (!tag || (*tag & 1U) != 0 || !head.has(3, "\x9D\x01\x2A") || data_.size() < kHead) return std::nullopt;
        const std::size_t first_size = *tag >> 5;
        columns_ = ((*head.u16le(6) & 0x3FFFU) + 15) / 16;
        rows_ = ((*head.u16le(8) & 0x3FFFU) + 15) / 16;
        if (columns_ == 0 || rows_ == 0) return std::nullopt;
        if (first_size > data_.size() - kHead) return false;
        BoolDecoder modes(data_.subspan(kHead, first_size));
        read_header(modes);
        if (!find_partitions(kHead + first_size)) return false;
        above_.assign(columns_, {});
        modes_above_.assign(std::size_t{columns_} * 4, 0);
        for (unsigned row = 0; row < rows_; ++row) {
            BoolDecoder& tokens = partitions_[row % partitions_.size()];
            left_ = {};
            modes_left_ = {};
            for (unsigned column = 0; column < columns_; ++column) read_block(modes, tokens, column);
            // What reads on and on behind its end will not come back.
            if (tokens.used() > sizes_[row % sizes_.size()] + 2) return false;
        }
        bool fills = is_used_up(modes, first_size);
        for (std::size_t i = 0; i < partitions_.size(); ++i) fills = fills && is_used_up(partitions_[i], sizes_[i]);
        return fills;
    }

  private:
    // Whether there was something but zeros, in the blocks of four by four at an edge of a block of sixteen by sixteen:
    // four of brightness, two of each colour, and the one of means.
    struct Edge {
        std::array<bool, 4> luma{};
        std::array<bool, 4> chroma{};
        bool mean = false;
    };

    std::optional<std::uint32_t> u24(std::size_t at) const {
        const ByteView data(data_);
        const auto low = data.u16le(at);
        return low && at + 2 < data_.size() ? std::optional(*low | std::to_integer<std::uint32_t>(data_[at + 2]) << 16)
                                            : std::nullopt;
    }

    // 9.2 to 9.11, 19.2.
    void read_header(BoolDecoder& in) {
        in.number(2);  // colour space, clamping
        if (in.bit(128)) read_segments(in);
        in.number(1 + 6 + 3);  // filter
        if (in.bit(128) && in.bit(128))
            for (unsigned i = 0; i < 8; ++i) in.skip_optional(6);
        partition_count_ = 1U << in.number(2);
        in.number(7);
        for (unsigned i = 0; i < 5; ++i) in.skip_optional(4);
        in.number(1);
        for (unsigned i = 0; i < vp8::kTokenProbabilities; ++i)
            tokens_[i] =
                in.bit(vp8::kTokenUpdates[i]) ? static_cast<std::uint8_t>(in.number(8)) : vp8::kDefaultTokens[i];
        if (in.bit(128)) skip_ = in.number(8);
    }
    void read_segments(BoolDecoder& in) {
        has_segment_map_ = in.bit(128);
        if (in.bit(128)) {
            in.number(1);
            for (unsigned i = 0; i < 4; ++i) in.skip_optional(7);
            for (unsigned i = 0; i < 4; ++i) in.skip_optional(6);
        }
        if (has_segment_map_)
            for (unsigned& probability : segments_) probability = in.bit(128) ? in.number(8) : 255;
    }

    // 9.5: their sizes but for the last one's stand in front of them.
    bool find_partitions(std::size_t at) {
        std::size_t from = at + 3 * (std::size_t{partition_count_} - 1);
        for (unsigned i = 0; i < partition_count_; ++i) {
            if (from > data_.size()) return false;
            const bool is_last = i + 1 == partition_count_;
            const std::size_t left = data_.size() - from;
            const std::size_t size = is_last ? left : u24(at + 3 * std::size_t{i}).value_or(0);
            if (size > left) return false;
            partitions_.emplace_back(data_.subspan(from, size));
            sizes_.push_back(size);
            from += size;
        }
        return true;
    }

    // 19.3, 11.2, 13.
    void read_block(BoolDecoder& modes, BoolDecoder& tokens, unsigned column) {
        if (has_segment_map_) modes.bit(segments_[modes.bit(segments_[0]) ? 2 : 1]);
        const bool is_skipped = skip_ && modes.bit(*skip_);
        const bool has_subblocks = read_modes(modes, column);
        Edge& above = above_[column];
        if (is_skipped) {
            const bool means[] = {above.mean, left_.mean};
            above = {};
            left_ = {};
            // Those of blocks without means stay for the next that have some.
            if (has_subblocks) above.mean = means[0], left_.mean = means[1];
            return;
        }
        enum Kind : unsigned { kLumaBehindMean, kMean, kChroma, kLuma };
        if (!has_subblocks) {
            const unsigned context = (above.mean ? 1U : 0U) + (left_.mean ? 1U : 0U);
            above.mean = left_.mean = read_tokens(tokens, kMean, context, 0);
        }
        const Kind kind = has_subblocks ? kLuma : kLumaBehindMean;
        for (unsigned y = 0; y < 4; ++y)
            for (unsigned x = 0; x < 4; ++x) follow(tokens, kind, above.luma[x], left_.luma[y], has_subblocks ? 0 : 1);
        for (unsigned colour = 0; colour < 4; colour += 2)
            for (unsigned y = 0; y < 2; ++y)
                for (unsigned x = 0; x < 2; ++x)
                    follow(tokens, kChroma, above.chroma[colour + x], left_.chroma[colour + y], 0);
    }
    void follow(BoolDecoder& in, unsigned kind, bool& above, bool& left, unsigned first) {
        above = left = read_tokens(in, kind, (above ? 1U : 0U) + (left ? 1U : 0U), first);
    }

    // Whether the block is predicted in sixteen parts.
    bool read_modes(BoolDecoder& in, unsigned column) {
        enum Mode : std::uint8_t { kMean, kTrue, kVertical, kHorizontal };
        const bool has_subblocks = !in.bit(145);
        std::uint8_t* const above = modes_above_.data() + std::size_t{column} * 4;
        if (!has_subblocks) {
            const Mode mode = in.bit(156) ? (in.bit(128) ? kTrue : kHorizontal) : (in.bit(163) ? kVertical : kMean);
            std::fill_n(above, 4, mode);
            modes_left_.fill(mode);
        } else {
            for (unsigned y = 0; y < 4; ++y)
                for (unsigned x = 0; x < 4; ++x)
                    above[x] = modes_left_[y] = subblock_mode(in, above[x], modes_left_[y]);
        }
        if (in.bit(142) && in.bit(114)) in.bit(183);
        return has_subblocks;
    }
    static std::uint8_t subblock_mode(BoolDecoder& in, unsigned above, unsigned left) {
        // Section 8.1: what is not above 0 is a mode, with its sign turned.
        constexpr int kTree[] = {0, 1, -1, 2, -2, 3, 4, 6, -3, 5, -4, -5, -6, 7, -7, 8, -8, -9};
        const std::uint8_t* const probabilities =
            vp8::kSubblocks + (above * vp8::kSubblockModes + left) * (vp8::kSubblockModes - 1);
        int at = 0;
        do at = kTree[2 * at + (in.bit(probabilities[at]) ? 1 : 0)];
        while (at > 0);
        return static_cast<std::uint8_t>(-at);
    }

    // Section 13.2. Whether there are any.
    bool read_tokens(BoolDecoder& in, unsigned kind, unsigned context, unsigned first) {
        constexpr std::uint8_t kBandOf[] = {0, 1, 2, 3, 6, 4, 5, 6, 6, 6, 6, 6, 6, 6, 6, 7, 0};
        const auto at = [&](unsigned n, unsigned around) {
            return tokens_.data() +
                   ((kind * vp8::kBands + kBandOf[n]) * vp8::kContexts + around) * std::size_t{vp8::kTokens};
        };
        const std::uint8_t* p = at(first, context);
        unsigned n = first;
        for (; n < 16; ++n) {
            if (!in.bit(p[0])) break;
            while (!in.bit(p[1])) {
                p = at(++n, 0);
                if (n == 16) return true;
            }
            const bool is_large = in.bit(p[2]);
            if (is_large) read_large(in, p);
            p = at(n + 1, is_large ? 2 : 1);
            in.bit(128);
        }
        return n > first;
    }
    static void read_large(BoolDecoder& in, const std::uint8_t* p) {
        constexpr std::array<std::array<std::uint8_t, 12>, 4> kExtra = {
            {{173, 148, 140},
             {176, 155, 140, 135},
             {180, 157, 141, 134, 130},
             {254, 254, 243, 230, 196, 177, 153, 140, 133, 130, 129}}};
        if (!in.bit(p[3])) {
            if (in.bit(p[4])) in.bit(p[5]);
            return;
        }
        if (!in.bit(p[6])) {
            if (!in.bit(p[7])) {
                in.bit(159);
            } else {
                in.bit(165);
                in.bit(145);
            }
            return;
        }
        const unsigned high = in.bit(p[8]) ? 1 : 0;
        for (const std::uint8_t probability : kExtra[2 * high + (in.bit(p[9 + high]) ? 1 : 0)]) {
            if (probability == 0) break;
            in.bit(probability);
        }
    }

    std::span<const std::byte> data_;
    unsigned columns_ = 0, rows_ = 0;  // of blocks of sixteen by sixteen
    unsigned partition_count_ = 1;
    std::vector<BoolDecoder> partitions_;
    std::vector<std::size_t> sizes_;  // bytes, of these
    bool has_segment_map_ = false;
    std::array<unsigned, 3> segments_{255, 255, 255};
    std::optional<unsigned> skip_;
    std::array<std::uint8_t, vp8::kTokenProbabilities> tokens_{};
    std::vector<Edge> above_;
    Edge left_;
    std::vector<std::uint8_t> modes_above_;
    std::array<std::uint8_t, 4> modes_left_{};
};

}  // namespace

std::optional<bool> vp8_fills(std::span<const std::byte> data) { return KeyFrame(data).fills(); }

}  // namespace dredger::formats
