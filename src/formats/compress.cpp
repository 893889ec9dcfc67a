// Streams of compress (IEEE Std 1003.1, "compress"; the packed form as its public sources write it): words of 9 to 16
// bits for strings that came before. There is no mark at the end.
#include <algorithm>
#include <optional>

#include "formats/families.h"

namespace dredger::formats {
namespace {

constexpr unsigned kClear = 256;

// Follows the words as one who unpacks them, and as one who would have packed them: a packer takes the longest string
// that it knows, so that what it writes next never goes on with one it knows already. That shows where the stream ends.
class Words {
  public:
    Words(Reader& content, unsigned most_bits, bool clears)
        : content_(content), most_bits_(most_bits), clears_(clears), children_(std::size_t{1} << most_bits) {
        first_.resize(children_.size());
        for (unsigned i = 0; i < 256; ++i) first_[i] = static_cast<std::uint8_t>(i);
        forget();
    }

    struct End {
        std::uint64_t at = 0;  // bytes
        std::uint64_t words = 0;
        bool is_shown = false;  // by zeros, as they stand behind a file
    };

    End follow() {
        constexpr unsigned kZerosThatEnd = 4;
        End end;
        end.at = at_;
        for (unsigned zeros = 0; content_.ok();) {
            const auto word = next();
            if (!word || !takes(*word)) break;
            zeros = *word == 0 ? zeros + 1 : 0;
            if (zeros == kZerosThatEnd) break;
            if (zeros == 0) end.at = at_ + (taken_ + 7) / 8;
            ++end.words;
        }
        end.is_shown = content_.holds(end.at, 8) && content_.is_zeros(end.at, end.at + 8);
        return end;
    }

  private:
    static constexpr std::uint64_t kStart = 3;

    void forget() {
        std::fill_n(children_.begin(), next_free_, Children{});
        next_free_ = clears_ ? kClear + 1 : kClear;
        before_.reset();
    }

    // Words stand in groups of eight of one width; where the width changes the rest of a group is left out.
    std::optional<unsigned> next() {
        if (taken_ == std::uint64_t{bits_} * 8) {
            at_ += bits_;
            taken_ = 0;
        }
        const std::uint64_t from = at_ + taken_ / 8;
        if (!content_.holds(from, (taken_ % 8 + bits_ + 7) / 8)) return std::nullopt;
        std::uint32_t three = 0;
        for (unsigned i = 0; i < 3 && content_.holds(from + i, 1); ++i)
            three |= std::uint32_t{content_.u8(from + i)} << (8 * i);
        const unsigned word = three >> (taken_ % 8) & ((1U << bits_) - 1);
        taken_ += bits_;
        return word;
    }

    void change_width(unsigned bits) {
        if (taken_ != 0) at_ += bits_;
        taken_ = 0;
        bits_ = bits;
    }

    bool takes(unsigned word) {
        if (clears_ && word == kClear) {
            if (!before_) return false;
            change_width(9);
            forget();
            return true;
        }
        const bool is_new = word == next_free_;
        if (word > next_free_ || (is_new && !before_) || (!before_ && word >= 256)) return false;
        if (before_) {
            const std::uint8_t character = is_new ? first_[*before_] : first_[word];
            if (children_[*before_][character]) return false;
            if (next_free_ < 1U << most_bits_) {
                children_[*before_].set(character);
                first_[next_free_++] = first_[*before_];
            } else if (is_new) {
                return false;
            }
        }
        before_ = word;
        if (next_free_ == 1U << bits_ && bits_ < most_bits_) change_width(bits_ + 1);
        return true;
    }

    // The characters with which a string that is known goes on.
    class Children {
      public:
        bool operator[](std::uint8_t c) const { return !bits_.empty() && (bits_[c / 64] >> (c % 64) & 1U) != 0; }
        void set(std::uint8_t c) {
            if (bits_.empty()) bits_.resize(4);
            bits_[c / 64] |= std::uint64_t{1} << (c % 64);
        }

      private:
        std::vector<std::uint64_t> bits_;
    };

    Reader& content_;
    unsigned most_bits_;
    bool clears_;
    std::uint64_t at_ = kStart;  // of the group of eight words
    std::uint64_t taken_ = 0;    // bits of it
    unsigned bits_ = 9, next_free_ = 0;
    std::optional<unsigned> before_;
    std::vector<Children> children_;
    std::vector<std::uint8_t> first_;
};

Measured measure_compress(Reader& content) {
    constexpr std::uint64_t kLeastWords = 64;
    const unsigned flags = content.u8(2), bits = flags & 31U;
    if ((flags & 0x60U) != 0 || bits < 9 || bits > 16) return nonsense();
    const Words::End end = Words(content, bits, (flags & 0x80U) != 0).follow();
    if (end.words < kLeastWords) return nonsense();
    return end.is_shown ? whole(end.at, Proof::chain) : open_ended(end.at, Proof::chain);
}

}  // namespace

const std::vector<Format>& compress() {
    static const std::vector<Format> family = {
        {.name = "compress",
         .kind = Kind::archive,
         .extensions = {"z", "taz"},
         .signatures = {{{0, "\x1F\x9D"sv}}},
         .is_loose = true,
         .measure = measure_compress,
         .ending = "where a packer would not have gone on so",
         .checked = "that every word is known"},
    };
    return family;
}

}  // namespace dredger::formats
