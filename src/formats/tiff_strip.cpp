#include "formats/tiff_strip.h"

#include <algorithm>
#include <array>

#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

using Found = StripLook::Found;

enum Compression : std::uint32_t {
    kLzw = 5,
    kDeflate = 8,
    kPackBits = 32773,
    kEarlierDeflate = 32946,
    kLzma = 34925,
    kZstandard = 50000,
};

StripLook look_at_stream(Reader& content, const TiffStrip& strip, Packing packing) {
    const bool has_head = packing != Packing::zlib || content.u16be(strip.at) % 31 == 0;  // RFC 1950
    if (!has_head) return {Found::wrong};
    const Unpacked made = unpack(content, packing, strip.at, strip.length);
    const bool is_long_enough = strip.full_length == 0 || made.bytes >= strip.full_length;
    if (made.ended() && is_long_enough) return {Found::summed};
    return {Found::wrong, made.packed};
}

// Codes of 9 to 12 bits, the highest bit first, one of which may name the string that it is about to make.
class LzwWalk {
  public:
    LzwWalk(Reader& content, const TiffStrip& strip) : content_(content), strip_(strip) {}

    StripLook run() {
        if (next_code() != kClear) return {};  // an earlier form, whose bits stand the other way round
        clear();
        for (;;) {
            const int code = next_code();
            if (code == kEnd) return {Found::unpacked};
            if (code < 0 || !take(code)) break;
        }
        // Some writers leave the end out.
        if (strip_.full_length > 0 && made_ >= strip_.full_length) return {Found::unpacked};
        return {Found::wrong, read_};
    }

  private:
    static constexpr int kClear = 256, kEnd = 257, kFirst = 258, kMost = 4096;

    void clear() {
        bits_ = 9;
        free_ = kFirst;
        before_ = -1;
    }

    // -1 behind the last one.
    int next_code() {
        while (held_ < bits_) {
            if (read_ >= strip_.length) return -1;
            window_ = window_ << 8U | content_.u8(strip_.at + read_++);
            held_ += 8;
        }
        held_ -= bits_;
        return static_cast<int>(window_ >> held_ & ((1U << bits_) - 1));
    }

    std::uint32_t length_of(int code) const { return code < kClear ? 1 : lengths_[static_cast<std::size_t>(code)]; }

    bool take(int code) {
        if (code == kClear) {
            clear();
            return true;
        }
        if (before_ < 0) {
            if (code > kClear) return false;
            made_ += 1;
        } else {
            if (code > free_ || free_ >= kMost) return false;
            lengths_[static_cast<std::size_t>(free_)] = length_of(before_) + 1;
            made_ += length_of(code);
            ++free_;
            if (free_ + 1 >= 1 << bits_ && bits_ < 12) ++bits_;
        }
        before_ = code;
        return true;
    }

    Reader& content_;
    const TiffStrip& strip_;
    std::array<std::uint32_t, kMost> lengths_{};  // of the strings, by code
    std::uint64_t window_ = 0, read_ = 0, made_ = 0;
    int held_ = 0, bits_ = 9, free_ = kFirst, before_ = -1;
};

// Runs that must come to the bytes of the picture where they end.
StripLook look_at_packbits(Reader& content, const TiffStrip& strip) {
    if (strip.full_length == 0) return {};
    std::uint64_t at = 0, made = 0;
    while (at < strip.length && made < strip.full_length) {
        const unsigned head = content.u8(strip.at + at);
        const std::uint64_t here = at++;
        if (head == 128) continue;
        at += head < 128 ? head + 1 : 1;
        made += head < 128 ? head + 1 : 257 - head;
        if (at > strip.length || made > strip.full_length) return {Found::wrong, here};
    }
    return made == strip.full_length && at + 2 > strip.length ? StripLook{Found::unpacked}
                                                              : StripLook{Found::wrong, at};
}

}  // namespace

StripLook look_at(Reader& content, const TiffStrip& strip) {
    if (strip.length == 0 || !content.holds(strip.at, strip.length)) return {};
    switch (strip.compression) {
        case kLzw: return LzwWalk(content, strip).run();
        case kDeflate:
        case kEarlierDeflate: return look_at_stream(content, strip, Packing::zlib);
        case kPackBits: return look_at_packbits(content, strip);
        case kLzma: return look_at_stream(content, strip, Packing::xz);
        case kZstandard: return look_at_stream(content, strip, Packing::zstd);
        default: return {};
    }
}

}  // namespace dredger::formats
