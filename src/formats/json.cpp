// JSON (RFC 8259): one value, an object or a list, from its first bracket to the last.
#include <algorithm>

#include "base/text.h"
#include "formats/characters.h"

namespace dredger::formats {
namespace {

// Follows the value's brackets and strings; what stands outside of strings has to be JSON.
class Value {
  public:
    explicit Value(Reader& content) : content_(content) {}

    Measured measure() {
        std::uint64_t at = content_.has(0, "\xEF\xBB\xBF") ? 3 : 0;
        while (content_.holds(at, 1) && is_space(content_.u8(at))) ++at;
        while (content_.ok()) {
            const auto here = content_.some(at);
            if (here.empty()) break;
            for (const std::byte b : std::vector<std::byte>(here.begin(), here.end())) {
                if (!take(std::to_integer<unsigned>(b)))
                    return members_ < 4 ? nonsense() : broken(at, "it stops being JSON");
                ++at;
                if (open_.empty())
                    return members_ < 2 || at < kLeast ? nonsense()
                                                       : whole(behind_line_end(content_, at), Proof::chain);
            }
        }
        return members_ < 4 ? nonsense() : broken(std::min(at, content_.size()), "its end is missing");
    }

  private:
    bool take(unsigned c) {
        if (in_string_) {
            if (c < 0x20 && c != '\t' && c != '\n' && c != '\r') return false;
            if (escaped_)
                escaped_ = false;
            else if (c == '\\')
                escaped_ = true;
            else if (c == '"')
                in_string_ = false;
            return true;
        }
        if (is_space(c)) return true;
        switch (c) {
            case '{':
            case '[': open_.push_back(static_cast<char>(c)); return open_.size() < kMaxDepth;
            case '}':
            case ']': {
                const bool fits = !open_.empty() && open_.back() == (c == '}' ? '{' : '[');
                if (fits) open_.pop_back();
                ++members_;
                return fits;
            }
            case '"':
                in_string_ = true;
                ++members_;
                return true;
            default: break;
        }
        constexpr std::string_view kOutside = ",:+-.0123456789eEtrufalsn";
        return !open_.empty() && kOutside.find(static_cast<char>(c)) != std::string_view::npos;
    }

    static constexpr std::size_t kMaxDepth = 10'000;
    static constexpr std::uint64_t kLeast = 16;  // bytes
    Reader& content_;
    std::string open_;
    bool in_string_ = false, escaped_ = false;
    std::uint64_t members_ = 0;  // strings and what has ended
};

Measured measure_json(Reader& content) { return Value(content).measure(); }

// A bracket, and behind it what may follow one.
unsigned bid_json(ByteView head) {
    std::size_t at = head.has(0, "\xEF\xBB\xBF") ? 3 : 0;
    const auto skip = [&] {
        while (at < head.size() && is_space(std::to_integer<unsigned>(head.bytes()[at]))) ++at;
        return at < head.size() ? std::to_integer<char>(head.bytes()[at]) : '\0';
    };
    const char first = skip();
    if (first != '{' && first != '[') return 0;
    ++at;
    const char second = skip();
    if (first == '{') return second == '"' ? 16 : second == '}' ? 8 : 0;
    return std::string_view("{[\"-0123456789tfn]").find(second) != std::string_view::npos && second != '\0' ? 12 : 0;
}

Description describe_json(Reader& content, std::uint64_t length) {
    return {printable(between(content, "\"title\": \"", "\"", length)), {}, {}};
}

}  // namespace

std::vector<Format> json_formats() {
    return {
        {.name = "json",
         .kind = Kind::document,
         .extensions = {"json", "geojson", "ipynb", "gltf", "webmanifest", "har"},
         .is_text = true,
         .bid = bid_json,
         .measure = measure_json,
         .describe = describe_json,
         .ending = "its last bracket",
         .checked = "brackets and strings"},
    };
}

}  // namespace dredger::formats
