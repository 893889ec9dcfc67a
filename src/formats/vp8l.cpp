#include "formats/vp8l.h"

#include <algorithm>
#include <array>
#include <cstdint>
#include <vector>

namespace dredger::formats {
namespace {

// Bits from the lowest on. Behind the end of its data it reads zeros.
class Bits {
  public:
    explicit Bits(std::span<const std::byte> data) : data_(data) {}

    unsigned take(unsigned count) {
        while (held_ < count) {
            const std::size_t at = used_++;
            bits_ |= std::uint64_t{at < data_.size() ? std::to_integer<std::uint8_t>(data_[at]) : std::uint8_t{0}}
                     << held_;
            held_ += 8;
        }
        const auto value = static_cast<unsigned>(bits_ & ((std::uint64_t{1} << count) - 1));
        bits_ >>= count;
        held_ -= count;
        return value;
    }
    bool is_over() const { return used_ > data_.size(); }
    std::size_t used() const { return used_; }  // bytes

  private:
    std::span<const std::byte> data_;
    std::size_t used_ = 0;
    std::uint64_t bits_ = 0;
    unsigned held_ = 0;
};

// A canonical prefix code, of up to 15 bits.
class PrefixCode {
  public:
    static constexpr unsigned kMostBits = 15;

    // False where there is none with these lengths.
    bool make(const std::vector<std::uint8_t>& lengths) {
        counts_ = {};
        symbols_.clear();
        for (const std::uint8_t length : lengths) ++counts_[length];
        counts_[0] = 0;
        int left = 1;
        std::array<unsigned, kMostBits + 2> starts{};
        unsigned all = 0;
        for (unsigned n = 1; n <= kMostBits; ++n) {
            left = 2 * left - static_cast<int>(counts_[n]);
            if (left < 0) return false;
            starts[n + 1] = starts[n] + counts_[n];
            all += counts_[n];
        }
        symbols_.resize(all);
        for (unsigned symbol = 0; symbol < lengths.size(); ++symbol)
            if (lengths[symbol] != 0) symbols_[starts[lengths[symbol]]++] = static_cast<std::uint16_t>(symbol);
        // One symbol alone takes no bits.
        return all == 1 || (all > 1 && left == 0);
    }
    unsigned read(Bits& in) const {
        if (symbols_.size() == 1) return symbols_.front();
        unsigned code = 0, first = 0, index = 0;
        for (unsigned n = 1; n <= kMostBits; ++n) {
            code |= in.take(1);
            const unsigned count = counts_[n];
            if (code < first + count) return symbols_[index + code - first];
            index += count;
            first = (first + count) << 1;
            code <<= 1;
        }
        return 0;
    }

  private:
    std::array<std::uint16_t, kMostBits + 1> counts_{};
    std::vector<std::uint16_t> symbols_;
};

// 3.7.1: of a group of prefix codes.
enum Role : unsigned { kGreen, kRed, kBlue, kAlpha, kDistance, kRoles };
using Group = std::array<PrefixCode, kRoles>;

constexpr unsigned kLiterals = 256, kLengths = 24, kDistances = 40;

constexpr std::uint8_t kPlane[120] = {
    24,  7,   23,  25,  40, 6,  39,  41, 22,  26,  38,  42,  56,  5,   55, 57,  21,  27,  54,  58, 37,  43,  72, 4,
    71,  73,  20,  28,  53, 59, 70,  74, 36,  44,  88,  69,  75,  52,  60, 3,   87,  89,  19,  29, 86,  90,  35, 45,
    68,  76,  85,  91,  51, 61, 104, 2,  103, 105, 18,  30,  102, 106, 34, 46,  84,  92,  67,  77, 101, 107, 50, 62,
    120, 1,   119, 121, 83, 93, 17,  31, 100, 108, 66,  78,  118, 122, 33, 47,  117, 123, 49,  63, 99,  109, 82, 94,
    0,   116, 124, 65,  79, 16, 32,  98, 110, 48,  115, 125, 81,  95,  64, 114, 126, 97,  111, 80, 113, 127, 96, 112,
};

class Picture {
  public:
    explicit Picture(std::span<const std::byte> data) : size_(data.size()), in_(data) {}

    std::optional<bool> fills() {
        constexpr unsigned kSignature = 0x2F;
        constexpr std::uint64_t kMostPoints = 64 << 20;
        if (in_.take(8) != kSignature) return std::nullopt;
        width_ = in_.take(14) + 1;
        const unsigned height = in_.take(14) + 1;
        in_.take(1);
        if (in_.take(3) != 0 || std::uint64_t{width_} * height > kMostPoints) return std::nullopt;
        height_ = height;
        if (!skip_transforms() || !read_picture(width_, height_, true, nullptr)) return false;
        // The last byte may be one that makes the length even.
        return in_.used() <= size_ && in_.used() + 2 > size_;
    }

  private:
    static unsigned parts(unsigned length, unsigned bits) { return (length + (1U << bits) - 1) >> bits; }

    // 3.4: what they hold are pictures again.
    bool skip_transforms() {
        enum Transform : unsigned { kPredictor, kColour, kSubtractGreen, kPalette };
        unsigned seen = 0;
        while (in_.take(1) != 0) {
            const unsigned kind = in_.take(2);
            if ((seen >> kind & 1U) != 0) return false;
            seen |= 1U << kind;
            if (kind == kPredictor || kind == kColour) {
                const unsigned bits = in_.take(3) + 2;
                if (!read_picture(parts(width_, bits), parts(height_, bits), false, nullptr)) return false;
            } else if (kind == kPalette) {
                const unsigned colours = in_.take(8) + 1;
                if (!read_picture(colours, 1, false, nullptr)) return false;
                width_ = parts(width_, colours <= 2 ? 3 : colours <= 4 ? 2 : colours <= 16 ? 1 : 0);
            }
        }
        return !in_.is_over();
    }

    // 3.5 and 3.6. Points are kept in `points` where they are asked for.
    bool read_picture(unsigned width, unsigned height, bool is_main, std::vector<std::uint32_t>* points) {
        unsigned cache_bits = 0;
        if (in_.take(1) != 0) {
            cache_bits = in_.take(4);
            if (cache_bits < 1 || cache_bits > 11) return false;
        }
        std::vector<std::uint32_t> group_of;
        unsigned group_bits = 0, groups = 1;
        if (is_main && in_.take(1) != 0) {
            group_bits = in_.take(3) + 2;
            if (!read_picture(parts(width, group_bits), parts(height, group_bits), false, &group_of)) return false;
            for (std::uint32_t& point : group_of) {
                point = point >> 8 & 0xFFFF;
                groups = std::max(groups, point + 1);
            }
        }
        std::vector<Group> codes(groups);
        for (Group& group : codes)
            if (!read_group(group, cache_bits)) return false;
        return read_points({width, height, cache_bits, group_bits}, codes, group_of, points);
    }

    bool read_group(Group& group, unsigned cache_bits) {
        const unsigned cached = cache_bits == 0 ? 0 : 1U << cache_bits;
        const unsigned sizes[kRoles] = {kLiterals + kLengths + cached, kLiterals, kLiterals, kLiterals, kDistances};
        for (unsigned role = 0; role < kRoles; ++role)
            if (in_.is_over() || !read_code(group[role], sizes[role])) return false;
        return true;
    }

    // 3.7.2.
    bool read_code(PrefixCode& code, unsigned alphabet) {
        std::vector<std::uint8_t> lengths(alphabet);
        if (in_.take(1) != 0) {
            const unsigned count = in_.take(1) + 1;
            const unsigned first = in_.take(in_.take(1) != 0 ? 8 : 1);
            const unsigned second = count == 2 ? in_.take(8) : first;
            if (first >= alphabet || second >= alphabet) return false;
            lengths[first] = lengths[second] = 1;
            return code.make(lengths);
        }
        constexpr std::uint8_t kOrder[19] = {17, 18, 0, 1, 2, 3, 4, 5, 16, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15};
        std::vector<std::uint8_t> lengths_of_lengths(std::size(kOrder));
        const unsigned count = in_.take(4) + 4;
        for (unsigned i = 0; i < count; ++i) lengths_of_lengths[kOrder[i]] = static_cast<std::uint8_t>(in_.take(3));
        PrefixCode of_lengths;
        if (!of_lengths.make(lengths_of_lengths)) return false;
        unsigned left = alphabet;
        if (in_.take(1) != 0) {
            left = 2 + in_.take(2 + 2 * in_.take(3));
            if (left > alphabet) return false;
        }
        std::uint8_t before = 8;
        for (unsigned at = 0; at < alphabet && left > 0; --left) {
            const unsigned word = of_lengths.read(in_);
            if (word < 16) {
                lengths[at++] = static_cast<std::uint8_t>(word);
                if (word != 0) before = static_cast<std::uint8_t>(word);
                continue;
            }
            const unsigned times = word == 16 ? 3 + in_.take(2) : word == 17 ? 3 + in_.take(3) : 11 + in_.take(7);
            if (at + times > alphabet) return false;
            std::fill_n(lengths.begin() + at, times, word == 16 ? before : std::uint8_t{0});
            at += times;
        }
        return code.make(lengths);
    }

    // 3.6.2.2: a word, and further bits of the number.
    unsigned number(unsigned word) {
        if (word < 4) return word + 1;
        const unsigned extra = (word - 2) >> 1;
        return ((2 + (word & 1U)) << extra) + in_.take(extra) + 1;
    }

    struct Shape {
        unsigned width, height, cache_bits, group_bits;
    };

    bool read_points(const Shape& shape, const std::vector<Group>& codes, const std::vector<std::uint32_t>& group_of,
                     std::vector<std::uint32_t>* points) {
        const std::uint64_t count = std::uint64_t{shape.width} * shape.height;
        const unsigned group_columns = parts(shape.width, shape.group_bits);
        std::vector<std::uint32_t> cache(points != nullptr && shape.cache_bits != 0 ? 1U << shape.cache_bits : 0);
        const auto keep = [&](std::uint32_t point) {
            constexpr std::uint32_t kHash = 0x1E35A7BD;
            if (points == nullptr) return;
            points->push_back(point);
            if (!cache.empty()) cache[(kHash * point) >> (32 - shape.cache_bits)] = point;
        };
        unsigned x = 0, y = 0;
        for (std::uint64_t at = 0; at < count;) {
            if (in_.is_over()) return false;
            const std::size_t group =
                group_of.empty()
                    ? 0
                    : group_of[std::size_t{y >> shape.group_bits} * group_columns + (x >> shape.group_bits)];
            const Group& code = codes[group];
            const unsigned word = code[kGreen].read(in_);
            std::uint64_t length = 1;
            if (word < kLiterals) {
                const unsigned red = code[kRed].read(in_), blue = code[kBlue].read(in_), alpha = code[kAlpha].read(in_);
                keep(alpha << 24 | red << 16 | word << 8 | blue);
            } else if (word < kLiterals + kLengths) {
                length = number(word - kLiterals);
                const std::uint64_t distance = distance_of(number(code[kDistance].read(in_)), shape.width);
                if (distance > at || length > count - at) return false;
                for (std::uint64_t i = 0; i < length && points != nullptr; ++i)
                    keep((*points)[points->size() - static_cast<std::size_t>(distance)]);
            } else if (points != nullptr) {
                keep(cache[word - kLiterals - kLengths]);
            }
            at += length;
            x += static_cast<unsigned>(length);
            y += x / shape.width;
            x %= shape.width;
        }
        return true;
    }

    // 3.6.2.3: near ones are told by where they lie.
    static std::uint64_t distance_of(unsigned code, unsigned width) {
        if (code > std::size(kPlane)) return code - std::size(kPlane);
        const int place = kPlane[code - 1];
        const std::int64_t distance = std::int64_t{place >> 4} * width + 8 - (place & 0xF);
        return distance < 1 ? 1 : static_cast<std::uint64_t>(distance);
    }

    std::size_t size_;
    Bits in_;
    unsigned width_ = 0, height_ = 0;
};

}  // namespace

std::optional<bool> vp8l_fills(std::span<const std::byte> data) { return Picture(data).fills(); }

}  // namespace dredger::formats
