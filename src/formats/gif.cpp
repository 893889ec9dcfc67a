// GIF: CompuServe Graphics Interchange Format 89a.
#include <fmt/format.h>

#include "formats/families.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kLeastPicture = 1024;  // bytes of sensible picture data that make a broken file worth it

// The codes of LZW, followed without building the strings: only how long each one is matters.
class CodeWalk {
  public:
    explicit CodeWalk(unsigned literal_bits) : clear_(1U << literal_bits), first_width_(literal_bits + 1) { reset(); }

    // False where the bytes can't be codes.
    bool feed(std::uint8_t byte) {
        bits_ |= std::uint32_t{byte} << count_;
        for (count_ += 8; count_ >= width_ && !ended_;) {
            const std::uint32_t code = bits_ & ((1U << width_) - 1);
            bits_ >>= width_;
            count_ -= width_;
            if (!take(code)) return false;
        }
        return true;
    }
    bool ended() const { return ended_; }
    std::uint64_t pixels() const { return pixels_; }

  private:
    void reset() {
        next_ = clear_ + 2;
        width_ = first_width_;
        previous_ = kNone;
    }
    bool take(std::uint32_t code) {
        if (code == clear_) {
            reset();
            return true;
        }
        if (code == clear_ + 1) {
            ended_ = true;
            return true;
        }
        if (code > next_ || (code == next_ && previous_ == kNone) || (previous_ == kNone && code > clear_))
            return false;
        const auto length_of = [&](std::uint32_t c) { return c < clear_ ? 1U : lengths_[c]; };
        if (previous_ != kNone && next_ < 4096) {
            lengths_[next_] = length_of(previous_) + 1;
            ++next_;
            if (next_ == 1U << width_ && width_ < 12) ++width_;
        } else if (code >= next_) {
            return false;
        }
        pixels_ += length_of(code);
        previous_ = code;
        return true;
    }

    static constexpr std::uint32_t kNone = ~0U;
    std::uint32_t clear_;
    unsigned first_width_;
    unsigned width_ = 0;
    std::uint32_t next_ = 0;
    std::uint32_t previous_ = kNone;
    std::uint32_t bits_ = 0;
    unsigned count_ = 0;
    bool ended_ = false;
    std::uint64_t pixels_ = 0;
    std::array<std::uint32_t, 4097> lengths_{};
};

std::uint64_t color_table(unsigned flags) { return (flags & 0x80U) != 0 ? 3ULL << ((flags & 7U) + 1) : 0; }

Measured measure_gif(Reader& content) {
    if (!content.has(0, "GIF8") || content.u16le(6) == 0 || content.u16le(8) == 0) return nonsense();
    std::uint64_t at = 13 + color_table(content.u8(10));
    std::uint64_t first_pixels = 0;
    bool all_pixels = true;
    const auto stopped = [&](std::uint64_t good) {
        return first_pixels == 0 || good < first_pixels + kLeastPicture
                   ? nonsense()
                   : broken(std::min(good, content.size()), "the picture data stops making sense");
    };
    while (content.holds(at, 1)) {
        const unsigned block = content.u8(at);
        if (block == 0x3B)
            return first_pixels == 0 ? nonsense() : whole(at + 1, all_pixels ? Proof::checksums : Proof::chain);
        std::uint64_t pixels = 0;
        unsigned literal_bits = 0;
        if (block == 0x21) {
            const unsigned label = content.u8(at + 1);
            if (label != 0xF9 && label != 0xFE && label != 0x01 && label != 0xFF) return stopped(at);
            at += 2;
        } else if (block == 0x2C) {
            pixels = std::uint64_t{content.u16le(at + 5)} * content.u16le(at + 7);
            if (pixels == 0) return stopped(at);
            at += 10 + color_table(content.u8(at + 9));
            literal_bits = content.u8(at++);
            if (literal_bits < 1 || literal_bits > 11) return stopped(at);
            if (first_pixels == 0) first_pixels = at;
        } else {
            return stopped(at);
        }
        CodeWalk codes(literal_bits == 0 ? 8 : literal_bits);
        for (;;) {
            const unsigned length = content.u8(at);
            if (!content.holds(at, 1 + std::uint64_t{length})) return stopped(at);
            ++at;
            if (length == 0) break;
            for (unsigned i = 0; pixels > 0 && i < length && !codes.ended(); ++i)
                if (!codes.feed(content.u8(at + i)) || codes.pixels() > pixels) return stopped(at + i);
            at += length;
        }
        if (pixels > 0 && codes.pixels() != pixels) all_pixels = false;
    }
    return stopped(at);
}

Description describe_gif(Reader& content, std::uint64_t) {
    return {{}, {}, {{"pixels", fmt::format("{} x {}", content.u16le(6), content.u16le(8))}}};
}

}  // namespace

const std::vector<Format>& gif() {
    static const std::vector<Format> family = {
        {.name = "gif",
         .kind = Kind::picture,
         .extensions = {"gif"},
         .signatures = {{{0, "GIF87a"sv}}, {{0, "GIF89a"sv}}},
         .measure = measure_gif,
         .describe = describe_gif,
         .ending = "the trailer",
         .checked = "all picture data is decoded"},
    };
    return family;
}

}  // namespace dredger::formats
