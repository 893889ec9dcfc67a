// Compiled Python: a header (PEP 552; earlier ones as "py_compile" of their version writes it), then one object as the
// module "marshal" writes it, in the versions 2.7 and 3.3 to 3.14.
#include "formats/families.h"

namespace dredger::formats {
namespace {

// What a code object holds, which each version of Python lays out in its own way.
struct Layout {
    std::uint64_t header;    // bytes before the object
    unsigned numbers;        // of four bytes each, at its start
    unsigned objects;        // behind them
    unsigned objects_after;  // behind the number of its first line
};

std::optional<Layout> layout_of(unsigned magic) {
    if (magic == 62211) return Layout{8, 4, 8, 1};
    if (magic >= 3190 && magic < 3390) return Layout{12, 5, 8, 1};
    if (magic >= 3390 && magic < 3400) return Layout{16, 5, 8, 1};
    if (magic >= 3400 && magic < 3450) return Layout{16, 6, 8, 1};
    if (magic >= 3450 && magic < 3700) return Layout{16, 5, 8, 2};
    return std::nullopt;
}

class Marshalled {
  public:
    Marshalled(Reader& content, const Layout& layout) : content_(content), layout_(layout), at_(layout.header) {}

    std::uint64_t at() const { return at_; }

    // Passes one object; false: none stands there.
    bool pass(unsigned depth = 0) {
        constexpr unsigned kMaxDepth = 200, kReferred = 0x80;
        if (depth > kMaxDepth || !content_.ok() || !content_.holds(at_, 1)) return false;
        const char type = static_cast<char>(content_.u8(at_++) & ~kReferred);
        switch (type) {
            case 'N':
            case 'F':
            case 'T':
            case 'S':
            case '.': return true;
            case 'i':
            case 'r':
            case 'R': return skip(4);
            case 'I':
            case 'g': return skip(8);
            case 'y': return skip(16);
            case 'f': return skip_short();
            case 'x': return skip_short() && skip_short();
            case 'l': {
                const auto digits = static_cast<std::int32_t>(content_.u32le(at_));
                return skip(4 + 2 * static_cast<std::uint64_t>(std::abs(std::int64_t{digits})));
            }
            case 's':
            case 't':
            case 'u':
            case 'a':
            case 'A': return skip(4 + std::uint64_t{content_.u32le(at_)});
            case 'z':
            case 'Z': return skip_short();
            case ')': {
                const unsigned count = content_.u8(at_++);
                return pass_all(count, depth);
            }
            case '(':
            case '[':
            case '<':
            case '>': {
                const std::uint32_t count = content_.u32le(at_);
                return skip(4) && pass_all(count, depth);
            }
            case '{': return pass_pairs(depth);
            case ':': return pass_all(3, depth);
            case 'c': return pass_code(depth);
            default: return false;
        }
    }

  private:
    bool skip(std::uint64_t bytes) {
        if (!content_.holds(at_, bytes)) return false;
        at_ += bytes;
        return true;
    }
    bool skip_short() { return skip(1 + std::uint64_t{content_.u8(at_)}); }

    bool pass_all(std::uint64_t count, unsigned depth) {
        for (; count > 0; --count)
            if (!pass(depth + 1)) return false;
        return true;
    }

    bool pass_pairs(unsigned depth) {
        while (content_.holds(at_, 1) && content_.u8(at_) != '0')
            if (!pass_all(2, depth)) return false;
        return skip(1);
    }

    bool pass_code(unsigned depth) {
        constexpr std::uint64_t kFirstLine = 4;
        return skip(4 * std::uint64_t{layout_.numbers}) && pass_all(layout_.objects, depth) && skip(kFirstLine) &&
               pass_all(layout_.objects_after, depth);
    }

    Reader& content_;
    const Layout layout_;
    std::uint64_t at_;
};

Measured measure_pyc(Reader& content) {
    constexpr std::uint64_t kLeast = 256;  // bytes of objects that make a broken file worth it
    const auto layout = layout_of(content.u16le(0));
    if (!layout || (content.u8(layout->header) & 0x7FU) != 'c') return nonsense();
    Marshalled object(content, *layout);
    if (object.pass()) return whole(object.at(), Proof::chain);
    return object.at() < kLeast ? nonsense()
                                : broken(std::min(object.at(), content.size()), "an object makes no sense");
}

}  // namespace

const std::vector<Format>& pyc() {
    static const std::vector<Format> family = {
        {.name = "pyc",
         .kind = Kind::other,
         .extensions = {"pyc", "pyo"},
         .signatures = {{{2, "\r\n"sv}, {16, "\xE3"sv}},
                        {{2, "\r\n"sv}, {12, "\xE3"sv}},
                        {{2, "\r\n"sv}, {12, "c"sv}},
                        {{0, "\x03\xF3\r\n"sv}, {8, "c"sv}}},
         .measure = measure_pyc,
         .ending = "the last of its objects",
         .checked = "the chain of objects"},
    };
    return family;
}

}  // namespace dredger::formats
