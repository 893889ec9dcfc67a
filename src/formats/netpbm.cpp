// Pictures whose head is text and whose points stand there plainly: Netpbm's ("pbm", "pgm", "ppm", "pam" manual pages),
// Sun's raster files (rasterfile(5)), Radiance's ("The Radiance File Formats"), X pixmaps (libXpm's manual).
#include <algorithm>
#include <charconv>
#include <optional>

#include "formats/characters.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kMaxSide = 65536;
constexpr std::size_t kMaxHead = 4096;

// Words and numbers of a head, with comments between them.
class Head {
  public:
    explicit Head(Reader& content) : text_(content.text(0, kMaxHead)) {}

    std::size_t at() const { return at_; }

    std::string_view word() {
        while (at_ < text_.size() && (is_space(byte(at_)) || text_[at_] == '#')) {
            if (text_[at_] == '#')
                at_ = std::min(text_.find('\n', at_), text_.size());
            else
                ++at_;
        }
        const std::size_t from = at_;
        while (at_ < text_.size() && !is_space(byte(at_))) ++at_;
        return std::string_view(text_).substr(from, at_ - from);
    }

    std::uint64_t number() {
        const std::string_view digits = word();
        std::uint64_t value = 0;
        const auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), value);
        return error == std::errc() && end == digits.data() + digits.size() ? value : 0;
    }

  private:
    unsigned byte(std::size_t at) const { return static_cast<unsigned char>(text_[at]); }
    std::string text_;
    std::size_t at_ = 0;
};

// As many numbers as the picture has points, apart or, where they are of one digit, together.
Measured measure_digits(Reader& content, std::uint64_t at, std::uint64_t count, bool are_single) {
    std::uint64_t numbers = 0;
    bool in_number = false;
    for (; numbers < count || in_number; ++at) {
        if (!content.holds(at, 1)) break;
        const unsigned c = content.u8(at);
        if (c >= '0' && c <= '9') {
            numbers += are_single || !in_number ? 1 : 0;
            in_number = !are_single;
        } else if (is_space(c)) {
            in_number = false;
        } else {
            break;
        }
    }
    constexpr std::uint64_t kLeast = 256;
    if (numbers < count) return numbers < kLeast ? nonsense() : broken(at, "its end is missing");
    while (content.holds(at, 1) && is_space(content.u8(at))) ++at;
    return whole(at, Proof::chain);
}

Measured measure_netpbm(Reader& content) {
    Head head(content);
    const unsigned type = content.u8(1) - unsigned{'0'};
    head.word();
    const std::uint64_t width = head.number(), height = head.number();
    if (width == 0 || height == 0 || width > kMaxSide || height > kMaxSide) return nonsense();
    const bool is_bitmap = type == 1 || type == 4;
    const std::uint64_t most = is_bitmap ? 1 : head.number();
    if (most == 0 || most > 65535) return nonsense();
    const std::uint64_t start = head.at() + 1, channels = type == 3 || type == 6 ? 3 : 1;
    if (type < 4) return measure_digits(content, start, width * height * channels, is_bitmap);
    const std::uint64_t line = is_bitmap ? (width + 7) / 8 : width * channels * (most > 255 ? 2 : 1);
    return sized(content, start + line * height, Proof::length);
}

Measured measure_pam(Reader& content) {
    Head head(content);
    std::uint64_t width = 0, height = 0, depth = 0, most = 0;
    head.word();
    for (unsigned lines = 0; lines < 32; ++lines) {
        const std::string_view word = head.word();
        if (word == "ENDHDR") break;
        if (word == "WIDTH")
            width = head.number();
        else if (word == "HEIGHT")
            height = head.number();
        else if (word == "DEPTH")
            depth = head.number();
        else if (word == "MAXVAL")
            most = head.number();
        else
            head.word();
    }
    if (width == 0 || height == 0 || depth == 0 || most == 0 || width > kMaxSide || height > kMaxSide || depth > 64 ||
        most > 65535)
        return nonsense();
    return sized(content, head.at() + 1 + width * height * depth * (most > 255 ? 2 : 1), Proof::length);
}

Measured measure_sun_raster(Reader& content) {
    constexpr std::uint64_t kHeader = 32;
    const std::uint64_t width = content.u32be(4), height = content.u32be(8), depth = content.u32be(12);
    const std::uint64_t length = content.u32be(16), map = content.u32be(28);
    const std::uint32_t type = content.u32be(20);
    if (width == 0 || height == 0 || width > kMaxSide || height > kMaxSide || type > 5 || map > 4096 ||
        (depth != 1 && depth != 8 && depth != 24 && depth != 32))
        return nonsense();
    // Lines are filled up to two bytes; the earliest files do not tell their length.
    const std::uint64_t plain = (width * depth + 15) / 16 * 2 * height;
    if (type == 2 && length == 0) return nonsense();
    return sized(content, kHeader + map + (type == 2 ? length : plain), Proof::length);
}

// Behind one line of packed points.
std::optional<std::uint64_t> behind_scanline(Reader& content, std::uint64_t at, std::uint64_t width) {
    const bool is_packed = content.u16be(at) == 0x0202 && width >= 8 && width < 32768 && content.u16be(at + 2) == width;
    if (!is_packed) {
        // A line of an earlier kind: points, and such as repeat the one before.
        std::uint64_t points = 0;
        for (unsigned shift = 0; points < width && content.holds(at, 4); at += 4) {
            const bool repeats = content.u8(at) == 1 && content.u8(at + 1) == 1 && content.u8(at + 2) == 1;
            points += repeats ? std::uint64_t{content.u8(at + 3)} << shift : 1;
            shift = repeats && shift < 24 ? shift + 8 : 0;
        }
        return points == width ? std::optional(at) : std::nullopt;
    }
    at += 4;
    for (unsigned channel = 0; channel < 4; ++channel)
        for (std::uint64_t points = 0; points < width;) {
            if (!content.holds(at, 2)) return std::nullopt;
            const unsigned count = content.u8(at);
            points += count > 128 ? count - 128 : count;
            at += count > 128 ? 2 : 1 + count;
            if (count == 0 || points > width) return std::nullopt;
        }
    return at;
}

Measured measure_radiance(Reader& content) {
    const auto blank = content.find("\n\n", 0, kMaxHead);
    if (!blank) return nonsense();
    const std::string size = content.text(*blank + 2, 64);
    const std::size_t line_end = size.find('\n');
    const std::size_t second = size.find(' ', 3);
    if (line_end == std::string::npos || second >= line_end || size.size() < 8) return nonsense();
    const auto height = number_in(std::string_view(size).substr(3));
    const auto width = number_in(std::string_view(size).substr(std::min(second + 4, size.size())));
    if (!height || !width || *height == 0 || *width == 0 || *height > kMaxSide || *width > kMaxSide) return nonsense();
    std::uint64_t at = *blank + 2 + line_end + 1;
    for (std::uint64_t line = 0; line < *height; ++line) {
        const auto behind = behind_scanline(content, at, *width);
        if (!behind) return line == 0 ? nonsense() : broken(at, "a line of points makes no sense");
        at = *behind;
    }
    return content.holds(0, at) ? whole(at, Proof::chain) : broken(content.size(), "its end is missing", at);
}

Measured measure_x_picture(Reader& content) {
    constexpr std::uint64_t kLeast = 256;
    // Points may be any characters: only outside of quotes a bracket closes.
    bool is_quoted = false;
    std::uint64_t at = 0;
    const std::uint64_t end = end_of_characters(content, 0);
    while (at < end) {
        const auto here = content.some(at);
        if (here.empty()) break;
        for (const std::byte b : here) {
            if (at >= end) break;
            const auto c = std::to_integer<char>(b);
            ++at;
            is_quoted = is_quoted != (c == '"');
            if (c != '}' || is_quoted || !content.has(at, ";")) continue;
            ++at;
            const std::uint64_t line = content.has(at, "\r\n") ? 2 : content.has(at, "\n") ? 1 : 0;
            return whole(at + line, Proof::chain);
        }
    }
    return at >= kLeast ? broken(at, "its end is missing") : nonsense();
}

}  // namespace

const std::vector<Format>& netpbm() {
    constexpr std::string_view kBySize = "the size of the picture";
    static const std::vector<Format> family = {
        {.name = "pnm",
         .kind = Kind::picture,
         .extensions = {"ppm", "pgm", "pbm", "pnm"},
         .signatures = {{{0, "P1\n"sv}},
                        {{0, "P2\n"sv}},
                        {{0, "P3\n"sv}},
                        {{0, "P4\n"sv}},
                        {{0, "P5\n"sv}},
                        {{0, "P6\n"sv}},
                        {{0, "P4 "sv}},
                        {{0, "P5 "sv}},
                        {{0, "P6 "sv}}},
         .measure = measure_netpbm,
         .ending = kBySize,
         .checked = "the header"},
        {.name = "pam",
         .kind = Kind::picture,
         .extensions = {"pam"},
         .signatures = {{{0, "P7\n"sv}}},
         .measure = measure_pam,
         .ending = kBySize,
         .checked = "the header"},
        {.name = "sunraster",
         .kind = Kind::picture,
         .extensions = {"ras", "sun"},
         .signatures = {{{0, "\x59\xA6\x6A\x95"sv}}},
         .measure = measure_sun_raster,
         .ending = kBySize,
         .checked = "the header"},
        {.name = "radiance",
         .kind = Kind::picture,
         .extensions = {"hdr", "pic"},
         .signatures = {{{0, "#?RADIANCE\n"sv}}, {{0, "#?RGBE\n"sv}}},
         .measure = measure_radiance,
         .ending = "its last line of points",
         .checked = "that every line is full"},
        {.name = "xpm",
         .kind = Kind::picture,
         .extensions = {"xpm"},
         .signatures = {{{0, "/* XPM */"sv}}},
         .measure = measure_x_picture,
         .ending = "the bracket that closes its lines",
         .checked = "that it is text"},
    };
    return family;
}

}  // namespace dredger::formats
