// The bits of JPEG's entropy-coded data (ITU-T T.81, B.1.1.5 and F.2.2.5): taken from the content a few KiB at a time,
// without the zeros that are stuffed behind each FF, and up to the next marker.
#pragma once

#include <array>
#include <cstdint>
#include <cstring>
#include <vector>

#include "formats/reader.h"

namespace dredger::formats {

class JpegBits {
  public:
    JpegBits(Reader& content, std::uint64_t at) : content_(content), at_(at), base_(at) { ahead_.next = plain_.data(); }
    JpegBits(const JpegBits&) = delete;
    JpegBits& operator=(const JpegBits&) = delete;

    // The bits that come next. An inner loop works with a copy of its own and puts it back.
    struct Ahead {
        std::uint64_t bits = 0;              // the next one highest
        unsigned count = 0;                  // of those that were taken for good; what follows them is right, too
        const std::uint8_t* next = nullptr;  // the next byte to become bits
        const std::uint8_t* last = nullptr;  // where eight bytes can be taken at the latest

        void skip(unsigned n) {  // at most `count`, which is below 64
            bits <<= n;
            count -= n;
        }
    };
    static constexpr unsigned kFilled = 56;  // bits that count at least, after fill()

    // Tops up. Behind the last bit come zeros; false once a good deal more than the data was asked for.
    bool fill(Ahead& ahead) {
        if (ahead.next >= ahead.last) [[unlikely]] {
            Ahead more = ahead;  // so that the caller's own can live in registers
            if (!load(more)) return false;
            ahead = more;
        }
        std::uint64_t eight = 0;
        std::memcpy(&eight, ahead.next, 8);
        ahead.bits |= __builtin_bswap64(eight) >> ahead.count;
        ahead.next += (63 - ahead.count) >> 3;
        ahead.count |= kFilled;
        return true;
    }

    const Ahead& ahead() const { return ahead_; }
    void set_ahead(const Ahead& ahead) { ahead_ = ahead; }

    std::uint32_t peek16() {
        if (ahead_.count < 32 && !fill(ahead_)) return 0;
        return static_cast<std::uint32_t>(ahead_.bits >> 48);
    }
    void skip(unsigned n) {  // at most 32
        if (ahead_.count < n && !fill(ahead_)) return;
        ahead_.skip(n);
    }
    std::uint32_t take(unsigned n) {  // at most 16
        if (n == 0) return 0;
        const std::uint32_t value = peek16() >> (16 - n);
        skip(n);
        return value;
    }

    // More bits were asked for than there are.
    bool ended() const { return met_marker_ && left() < 0; }
    // Whether only the filling of the last byte is left before a marker, or before the end of the content.
    bool at_marker();
    // Where that marker stands.
    std::uint64_t marker_at() const { return at_; }
    // Goes on behind a restart marker of number `expected`.
    bool restart(unsigned expected);
    // Where the byte of the next bit stands.
    std::uint64_t place() const;

  private:
    static constexpr std::size_t kChunk = 8 << 10;  // bytes
    static constexpr std::size_t kPadding = 16;     // zeros behind the last byte of all

    bool load(Ahead& ahead);
    std::size_t next() const { return static_cast<std::size_t>(ahead_.next - plain_.data()); }
    std::int64_t left() const {  // bits that are in the data and were not used
        return (static_cast<std::int64_t>(end_) - static_cast<std::int64_t>(next())) * 8 + ahead_.count;
    }

    Reader& content_;
    std::uint64_t at_;                                     // in the content: behind what plain_ holds
    std::uint64_t base_;                                   // in the content: of plain_'s first byte
    std::array<std::uint8_t, kChunk + kPadding> plain_{};  // bytes without their stuffing
    std::size_t end_ = 0;                                  // of the bytes in plain_
    std::vector<std::size_t> stuffed_;                     // those of them behind which a zero was left out
    Ahead ahead_;
    bool met_marker_ = false;
};

}  // namespace dredger::formats
