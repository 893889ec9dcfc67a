#include "formats/jpeg_scan.h"

#include <algorithm>

namespace dredger::formats {
namespace {

// The bits of entropy-coded data: stuffed zeros left out, stopping before a marker.
class BitSource {
  public:
    BitSource(Reader& content, std::uint64_t at) : content_(content), at_(at) { load(); }

    // The next 16 bits; zeros behind the last one.
    std::uint32_t peek16() {
        if (count_ < 32) refill();
        return static_cast<std::uint32_t>(bits_ >> 48);
    }
    void skip(unsigned n) {
        if (n > count_) refill();
        if (n > count_) ended_ = true;
        bits_ = n < 64 ? bits_ << n : 0;
        count_ = n > count_ ? 0 : count_ - n;
    }
    std::uint32_t take(unsigned n) {
        if (n == 0) return 0;
        if (count_ < n) refill();
        const auto value = static_cast<std::uint32_t>(bits_ >> (64 - n));
        skip(n);
        return value;
    }
    // Passes a sequential block (F.2.2), the way most bytes of most pictures are read: several coefficients at a time,
    // and with the state in registers. False where it can't be one.
    bool pass_block(const JpegHuffman& dc, const JpegHuffman& ac) {
        std::uint64_t bits = bits_;
        unsigned count = count_;
        const auto fill = [&] {
            const std::size_t skip = static_cast<std::size_t>(at_ - start_);
            std::uint32_t four = 0xFFFFFFFF;
            if (skip + 4 <= here_.size()) std::memcpy(&four, here_.data() + skip, 4);
            if (!has_ff(four)) {
                bits |= std::uint64_t{__builtin_bswap32(four)} << (32 - count);
                count += 32;
                at_ += 4;
                return;
            }
            bits_ = bits;
            count_ = count;
            refill();
            bits = bits_;
            count = count_;
        };
        const auto pass = [&](unsigned used) {
            if (used > count) {
                ended_ = true;
                return false;
            }
            bits <<= used;
            count -= used;
            return true;
        };
        if (count < 32) fill();
        const JpegHuffman::Entry difference = dc.decode(static_cast<std::uint32_t>(bits >> 48));
        if (difference.bits == 0 || difference.symbol > 15 || !pass(difference.bits + difference.symbol)) return false;
        for (unsigned k = 1; k < 64;) {
            if (count < 32) fill();
            const auto peeked = static_cast<std::uint32_t>(bits >> 48);
            const JpegHuffman::Stride stride = ac.stride(peeked);
            unsigned used = stride.bits;
            const unsigned reached = k + stride.advance;
            if (reached < 64) {
                k = reached;
            } else if (reached == 64 ||
                       (reached >= JpegHuffman::Stride::kEnd && reached < JpegHuffman::Stride::kEnd + 64)) {
                // A block that is full has no end code: what looks like one belongs to the next.
                k = 64;
            } else {
                const JpegHuffman::Entry entry = ac.decode(peeked);
                if (entry.bits == 0) return false;
                const unsigned run = entry.symbol >> 4;
                const unsigned size = entry.symbol & 15U;
                used = entry.bits + size;
                if (size == 0 && run != 0 && run != 15) return false;
                k = size == 0 && run == 0 ? 64 : k + run + 1;
                if (k > 64) return false;
            }
            if (!pass(used)) return false;
        }
        bits_ = bits;
        count_ = count;
        return true;
    }
    // More bits were asked for than there are.
    bool ended() const { return ended_; }
    // Whether only the filling of the last byte is left before a marker.
    bool at_marker() {
        refill();
        return met_marker_ && count_ < 8;
    }
    std::uint64_t marker_at() const { return at_; }
    // Goes on behind a restart marker of number `expected`.
    bool restart(unsigned expected) {
        if (!at_marker() || content_.u8(at_ + 1) != 0xD0 + expected) return false;
        at_ += 2;
        bits_ = 0;
        count_ = 0;
        met_marker_ = false;
        load();
        return true;
    }
    // About where the next bit stands.
    std::uint64_t place() const { return at_ - std::min<std::uint64_t>(at_, count_ / 8); }

  private:
    static bool has_ff(std::uint32_t four) { return ((~four - 0x01010101U) & four & 0x80808080U) != 0; }
    void load() {
        here_ = content_.some(at_);
        start_ = at_;
    }
    std::uint32_t byte_at(std::uint64_t at) {
        if (at - start_ >= here_.size()) {
            here_ = content_.some(at);
            start_ = at;
            if (here_.empty()) return 0x100;
        }
        return std::to_integer<std::uint32_t>(here_[static_cast<std::size_t>(at - start_)]);
    }
    void refill() {
        while (count_ <= 48 && !met_marker_) {
            const std::size_t skip = static_cast<std::size_t>(at_ - start_);
            if (count_ <= 32 && skip + 4 <= here_.size()) {
                std::uint32_t four = 0;
                std::memcpy(&four, here_.data() + skip, 4);
                if (!has_ff(four)) {
                    bits_ |= std::uint64_t{__builtin_bswap32(four)} << (32 - count_);
                    count_ += 32;
                    at_ += 4;
                    continue;
                }
            }
            const std::uint32_t byte = byte_at(at_);
            if (byte > 0xFF) {
                met_marker_ = true;
                return;
            }
            if (byte == 0xFF) {
                const std::uint32_t next = byte_at(at_ + 1);
                if (next == 0xFF) {  // a filling byte before a marker
                    ++at_;
                    continue;
                }
                if (next != 0) {
                    met_marker_ = true;
                    return;
                }
                ++at_;
            }
            ++at_;
            bits_ |= std::uint64_t{byte} << (56 - count_);
            count_ += 8;
        }
    }

    Reader& content_;
    std::uint64_t at_;
    std::span<const std::byte> here_;
    std::uint64_t start_ = 0;  // of here_
    std::uint64_t bits_ = 0;   // left-aligned
    unsigned count_ = 0;
    bool met_marker_ = false;
    bool ended_ = false;
};

class Decoder {
  public:
    Decoder(Reader& content, std::uint64_t start, const JpegScanHeader& scan) : bits_(content, start), scan_(scan) {}

    JpegScanResult run() {
        for (std::size_t c = 0; c < scan_.components.size() && !scan_.progressive; ++c) {
            scan_.ac[c]->prepare_strides();
            const JpegComponent& component = *scan_.components[c];
            const unsigned blocks = scan_.components.size() > 1 ? component.across * component.down : 1;
            for (unsigned i = 0; i < blocks; ++i) unit_.push_back({scan_.dc[c], scan_.ac[c]});
        }
        const bool interleaved = scan_.components.size() > 1;
        const JpegComponent& only = *scan_.components.front();
        const std::uint64_t across = interleaved ? scan_.mcus_across : only.blocks_across;
        const std::uint64_t units = across * (interleaved ? scan_.mcus_down : only.blocks_down);
        for (std::uint64_t unit = 0; unit < units; ++unit) {
            if (scan_.restart_interval != 0 && unit != 0 && unit % scan_.restart_interval == 0) {
                if (!bits_.restart(static_cast<unsigned>((unit / scan_.restart_interval - 1) % 8))) return stopped();
                pending_bands_ = 0;
            }
            const bool fine = !scan_.progressive ? sequential()
                              : interleaved      ? mcu(unit % across, unit / across)
                                                 : block(0, unit / across, unit % across);
            if (!fine || bits_.ended()) return stopped();
        }
        if (!bits_.at_marker()) return stopped();
        return {true, bits_.marker_at(), blocks_};
    }

  private:
    JpegScanResult stopped() { return {false, bits_.place(), blocks_}; }

    bool sequential() {
        for (const Tables& tables : unit_)
            if (!bits_.pass_block(*tables.dc, *tables.ac)) return false;
        blocks_ += unit_.size();
        return true;
    }

    bool mcu(std::uint64_t x, std::uint64_t y) {
        for (std::size_t c = 0; c < scan_.components.size(); ++c) {
            const JpegComponent& component = *scan_.components[c];
            for (unsigned v = 0; v < component.down; ++v)
                for (unsigned h = 0; h < component.across; ++h)
                    if (!block(c, y * component.down + v, x * component.across + h)) return false;
        }
        return true;
    }

    bool block(std::size_t c, std::uint64_t row, std::uint64_t column) {
        ++blocks_;
        if (scan_.first == 0) {
            if (scan_.high == 0) return dc(c);
            bits_.skip(1);
            return true;
        }
        JpegComponent& component = *scan_.components[c];
        const std::uint64_t index = row * component.padded_across + column;
        if (index >= component.filled.size()) return false;
        std::uint64_t& filled = component.filled[static_cast<std::size_t>(index)];
        return scan_.high == 0 ? run_of_ac(c, scan_.first, scan_.last, filled) : refine_ac(c, filled);
    }

    bool dc(std::size_t c) {
        const JpegHuffman::Entry entry = scan_.dc[c]->decode(bits_.peek16());
        if (entry.bits == 0 || entry.symbol > 16) return false;
        bits_.skip(entry.bits);
        bits_.skip(entry.symbol);
        return true;
    }

    // The coefficients of one block in the first scan of a band (T.81 G.1.2.2).
    bool run_of_ac(std::size_t c, unsigned from, unsigned to, std::uint64_t& filled) {
        if (pending_bands_ > 0) {
            --pending_bands_;
            return true;
        }
        const JpegHuffman& table = *scan_.ac[c];
        for (unsigned k = from; k <= to;) {
            const JpegHuffman::Entry entry = table.decode(bits_.peek16());
            if (entry.bits == 0) return false;
            const unsigned run = entry.symbol >> 4;
            const unsigned size = entry.symbol & 15U;
            bits_.skip(entry.bits + size);
            if (size != 0) {
                k += run;
                if (k > to) return false;
                filled |= std::uint64_t{1} << k;
                ++k;
            } else if (run == 15) {
                k += 16;
                if (k > to + 1) return false;
            } else {
                pending_bands_ = (1U << run) - 1 + bits_.take(run);
                return true;
            }
            if (bits_.ended()) return false;
        }
        return true;
    }

    // A later scan of a band (G.1.2.3): a bit for every coefficient that is not zero already.
    bool refine_ac(std::size_t c, std::uint64_t& filled) {
        unsigned k = scan_.first;
        const auto correct = [&](unsigned zeros) {  // passes that many zeros; true where it stands on one
            for (; k <= scan_.last; ++k) {
                if ((filled >> k & 1U) != 0)
                    bits_.skip(1);
                else if (zeros-- == 0)
                    return true;
            }
            return false;
        };
        if (pending_bands_ == 0) {
            const JpegHuffman& table = *scan_.ac[c];
            while (k <= scan_.last) {
                const JpegHuffman::Entry entry = table.decode(bits_.peek16());
                if (entry.bits == 0) return false;
                bits_.skip(entry.bits);
                const unsigned run = entry.symbol >> 4;
                const unsigned size = entry.symbol & 15U;
                if (size > 1) return false;
                if (size == 0 && run < 15) {
                    pending_bands_ = (1U << run) + bits_.take(run);
                    break;
                }
                if (size == 1) bits_.skip(1);
                if (!correct(run)) {
                    if (size == 1) return false;
                    break;
                }
                if (size == 1) filled |= std::uint64_t{1} << k;
                ++k;
                if (bits_.ended()) return false;
            }
            if (pending_bands_ == 0) return true;
        }
        correct(64);
        --pending_bands_;
        return true;
    }

    struct Tables {
        const JpegHuffman* dc;
        const JpegHuffman* ac;
    };
    BitSource bits_;
    const JpegScanHeader& scan_;
    std::vector<Tables> unit_;  // of the blocks that a sequential scan repeats
    std::uint64_t blocks_ = 0;
    unsigned pending_bands_ = 0;  // blocks whose band has ended already
};

}  // namespace

void JpegHuffman::prepare_strides() {
    if (!strides_.empty()) return;
    strides_.resize(1U << kLookup);
    for (std::uint32_t prefix = 0; prefix < strides_.size(); ++prefix) {
        unsigned bits = 0;
        unsigned advance = 0;
        bool ends = false;
        while (bits < kLookup && !ends) {
            const Entry entry = short_codes_[prefix << bits & ((1U << kLookup) - 1)];
            if (entry.bits == 0 || bits + entry.bits > kLookup) break;
            const unsigned run = entry.symbol >> 4;
            const unsigned size = entry.symbol & 15U;
            ends = size == 0 && run == 0;
            if ((size == 0 && run != 0 && run != 15) || advance + run + 1 > 63) break;
            bits += entry.bits + size;
            if (!ends) advance += run + 1;
        }
        if (bits == 0) continue;
        strides_[prefix] = {static_cast<std::uint8_t>(bits),
                            static_cast<std::uint8_t>(advance + (ends ? Stride::kEnd : 0))};
    }
}

bool JpegHuffman::define(const std::array<std::uint8_t, 16>& counts, const std::vector<std::uint8_t>& symbols) {
    symbols_ = symbols;
    strides_.clear();
    short_codes_.fill({});
    std::uint32_t code = 0;
    std::size_t index = 0;
    for (unsigned length = 1; length <= 16; ++length, code <<= 1) {
        const unsigned count = counts[length - 1];
        first_index_[length] = static_cast<std::int32_t>(index) - static_cast<std::int32_t>(code);
        last_code_[length] = count == 0 ? -1 : static_cast<std::int32_t>(code + count - 1);
        for (unsigned i = 0; i < count; ++i, ++code, ++index) {
            if (index >= symbols.size() || code >= 1U << length) return false;
            if (length > kLookup) continue;
            const std::uint32_t first = code << (kLookup - length);
            for (std::uint32_t fill = 0; fill < 1U << (kLookup - length); ++fill)
                short_codes_[first + fill] = {static_cast<std::uint8_t>(length), symbols[index]};
        }
    }
    return index > 0;
}

JpegHuffman::Entry JpegHuffman::decode(std::uint32_t peeked) const {
    const Entry entry = short_codes_[peeked >> (16 - kLookup)];
    if (entry.bits != 0) return entry;
    for (unsigned length = kLookup + 1; length <= 16; ++length) {
        const auto code = static_cast<std::int32_t>(peeked >> (16 - length));
        if (last_code_[length] < 0 || code > last_code_[length]) continue;
        const auto index = static_cast<std::size_t>(first_index_[length] + code);
        if (index < symbols_.size()) return {static_cast<std::uint8_t>(length), symbols_[index]};
    }
    return {};
}

JpegScanResult decode_jpeg_scan(Reader& content, std::uint64_t start, const JpegScanHeader& scan) {
    return Decoder(content, start, scan).run();
}

}  // namespace dredger::formats
