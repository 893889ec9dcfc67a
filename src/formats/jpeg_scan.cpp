#include "formats/jpeg_scan.h"

#include <algorithm>
#include <map>

#include "formats/jpeg_bits.h"

namespace dredger::formats {
namespace {

class Decoder {
  public:
    Decoder(Reader& content, std::uint64_t start, const JpegScanHeader& scan)
        : budget_(content.budget()), bits_(content, start), scan_(scan) {}

    JpegScanResult run() {
        const bool interleaved = scan_.components.size() > 1;
        const JpegComponent& only = *scan_.components.front();
        const std::uint64_t across = interleaved ? scan_.mcus_across : only.blocks_across;
        const std::uint64_t units = across * (interleaved ? scan_.mcus_down : only.blocks_down);
        const std::uint64_t interval = scan_.restart_interval != 0 ? scan_.restart_interval : units;
        if (!scan_.progressive) prepare_sequence();
        for (std::uint64_t unit = 0; unit < units; unit += interval) {
            if (unit != 0 && !bits_.restart(static_cast<unsigned>((unit / interval - 1) % 8))) return stopped();
            const std::uint64_t end = std::min(unit + interval, units);
            const bool fine = scan_.progressive ? progressive(unit, end, across) : sequential(end - unit);
            if (!fine || bits_.ended()) return stopped();
        }
        if (!bits_.at_marker()) return stopped();
        return {true, bits_.marker_at(), blocks_};
    }

  private:
    // A block of those that a sequential scan's units are made of.
    struct Block {
        const JpegHuffman* dc_codes;
        const JpegHuffman* ac_codes;
        std::size_t start;  // where their strides begin in strides_
        std::size_t ac;
    };
    static constexpr std::size_t kMaxInUnit = 64;  // four components, of four by four blocks each at most

    JpegScanResult stopped() { return {false, bits_.place(), blocks_}; }

    void prepare_sequence() {
        for (std::size_t c = 0; c < scan_.components.size(); ++c) {
            const JpegComponent& component = *scan_.components[c];
            const unsigned blocks = scan_.components.size() > 1 ? component.across * component.down : 1;
            const JpegHuffman& dc = *scan_.dc[c];
            const JpegHuffman& ac = *scan_.ac[c];
            const Block block = {&dc, &ac, strides_for({&dc, &ac}, [&] { return block_strides(dc, ac); }),
                                 strides_for({nullptr, &ac}, [&] { return ac_strides(ac); })};
            sequence_.insert(sequence_.end(), blocks, block);
        }
        const auto count = static_cast<std::int64_t>(sequence_.size());
        for (std::size_t i = 0; i < sequence_.size(); ++i) {
            const std::size_t next = (i + 1) % sequence_.size();
            to_next_[i] = next == 0 ? 1 - count : 1;
            ac_[i] = strides_.data() + sequence_[i].ac;
            ac_to_next_[i] =
                static_cast<std::int64_t>(sequence_[next].start) - static_cast<std::int64_t>(sequence_[i].ac);
        }
    }

    // The way most bytes of most pictures are read (F.2.2): several coefficients at a time, and without a branch on
    // where a block ends, as no processor foresees that.
    bool sequential(std::uint64_t units) {
        const std::uint64_t blocks = units * sequence_.size();
        std::uint64_t left = blocks;
        JpegBits::Ahead ahead = bits_.ahead();
        const JpegStride* table = strides_.data() + sequence_.front().start;
        std::int64_t block = 0;  // in the sequence
        unsigned k = 0;
        const auto pass = [&]() __attribute__((always_inline)) {
            const JpegStride stride = table[ahead.bits >> (64 - JpegStride::kLookup)];
            unsigned used = stride.bits();
            unsigned reached = k + stride.advance();
            std::int64_t ends = stride.ends();
            if (JpegStride::leads_nowhere(reached)) [[unlikely]] {
                if (!bits_.fill(ahead)) return false;
                const Step step = one_code(sequence_[static_cast<std::size_t>(block)],
                                           static_cast<std::uint32_t>(ahead.bits >> 48), k);
                if (step.bits == 0) return false;
                ahead.skip(step.bits);
                if (!bits_.fill(ahead)) return false;  // there was room for strides, not for a code of any length
                used = 0;
                reached = k + step.advance;
                ends = reached == 64 ? -1 : 0;
            }
            ahead.skip(used);
            table = ac_[static_cast<std::size_t>(block)] + (ac_to_next_[static_cast<std::size_t>(block)] & ends);
            block += to_next_[static_cast<std::size_t>(block)] & ends;
            k = reached & ~static_cast<unsigned>(ends);
            left += static_cast<std::uint64_t>(ends);
            return true;
        };
        static_assert(3 * JpegStride::kMaxBits <= JpegBits::kFilled);
        bool fine = true;
        while (fine && left > 2) fine = bits_.fill(ahead) && pass() && pass() && pass();
        while (fine && left > 0) fine = bits_.fill(ahead) && pass();
        bits_.set_ahead(ahead);
        blocks_ += blocks - left;
        return fine;
    }

    struct Step {
        unsigned bits = 0;     // 0: there is no such code
        unsigned advance = 0;  // coefficients
    };
    // One code alone, at coefficient `k`: what no stride covers.
    static Step one_code(const Block& block, std::uint32_t peeked, unsigned k) {
        const JpegHuffman::Entry entry = (k == 0 ? block.dc_codes : block.ac_codes)->decode(peeked);
        const unsigned run = k == 0 ? 0 : entry.symbol >> 4;
        const unsigned size = k == 0 ? entry.symbol : entry.symbol & 15U;
        if (entry.bits == 0 || size > 15 || (size == 0 && run != 0 && run != 15 && k != 0)) return {};
        const unsigned advance = k != 0 && size == 0 && run == 0 ? 64 - k : run + 1;
        if (k + advance > 64) return {};
        return {entry.bits + size, advance};
    }

    bool progressive(std::uint64_t from, std::uint64_t to, std::uint64_t across) {
        constexpr std::uint64_t kUnitsAStep = 64;
        pending_bands_ = 0;
        for (std::uint64_t unit = from; unit < to; ++unit) {
            // A few bits can stand for thousands of blocks.
            if (unit % kUnitsAStep == 0 && !budget_.spend_step()) return false;
            const bool fine = scan_.components.size() > 1 ? mcu(unit % across, unit / across)
                                                          : block(0, unit / across, unit % across);
            if (!fine || bits_.ended()) return false;
        }
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

    using Codes = std::pair<const JpegHuffman*, const JpegHuffman*>;
    template <class Make>
    std::size_t strides_for(const Codes& codes, Make make) {
        const auto [found, is_new] = strides_at_.try_emplace(codes, strides_.size());
        if (is_new) {
            const JpegStrides made = make();
            strides_.insert(strides_.end(), made.begin(), made.end());
        }
        return found->second;
    }

    Budget& budget_;
    JpegBits bits_;
    const JpegScanHeader& scan_;
    std::vector<JpegStride> strides_;  // of all tables of a sequential scan
    std::map<Codes, std::size_t> strides_at_;
    std::vector<Block> sequence_;  // of the blocks that a sequential scan repeats; and for each of them:
    std::array<const JpegStride*, kMaxInUnit> ac_{};
    std::array<std::int64_t, kMaxInUnit> ac_to_next_{};  // strides
    std::array<std::int64_t, kMaxInUnit> to_next_{};     // blocks
    std::uint64_t blocks_ = 0;
    unsigned pending_bands_ = 0;  // blocks whose band has ended already
};

}  // namespace

JpegScanResult decode_jpeg_scan(Reader& content, std::uint64_t start, const JpegScanHeader& scan) {
    return Decoder(content, start, scan).run();
}

}  // namespace dredger::formats
