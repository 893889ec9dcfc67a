#include "stores/mapi/rtf.h"

#include <algorithm>
#include <array>
#include <charconv>
#include <vector>
#include <zlib.h>

#include "base/bytes.h"
#include "base/text.h"
#include "stores/composing.h"
#include "stores/mapi/properties.h"

namespace dredger::stores::mapi {
namespace {

using namespace std::string_view_literals;

// What the dictionary holds at first ([MS-OXRTFCP] 2.1.3.1.4).
constexpr std::string_view kDictionary =
    "{\\rtf1\\ansi\\mac\\deff0\\deftab720{\\fonttbl;}{\\f0\\fnil \\froman \\fswiss \\fmodern \\fscript \\fdecor MS "
    "Sans "
    "SerifSymbolArialTimes New RomanCourier{\\colortbl\\red0\\green0\\blue0\r\n\\par "
    "\\pard\\plain\\f0\\fs20\\b\\i\\u\\tab\\tx"sv;
static_assert(kDictionary.size() == 207);

constexpr std::uint32_t kPacked = 0x75465A4C, kStored = 0x414C454D;  // "LZFu", "MELA"
constexpr std::size_t kHeader = 16, kRing = 4096, kMaxText = 64 << 20;

bool is_letter(char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z'); }

// Goes through RTF once and puts together what was HTML or plain text before.
class Extractor {
  public:
    explicit Extractor(std::string_view rtf) : rtf_(rtf) {}

    TextInRtf extract() {
        groups_.emplace_back();
        while (at_ < rtf_.size()) step();
        flush_bytes();
        TextInRtf text;
        text.charset = "utf-8";
        (is_html_ ? text.html : is_plain_ ? text.plain : text.words) = std::move(out_);
        return text;
    }

  private:
    struct Group {
        bool is_skipped = false;   // a destination that holds no text
        bool is_rtf_only = false;  // between \htmlrtf and \htmlrtf0
        bool is_tag = false;       // within \*\htmltag
        unsigned skip_after_unicode = 1;
    };
    Group& group() { return groups_.back(); }
    bool is_shown() { return !group().is_skipped && (group().is_tag || !group().is_rtf_only); }

    void step() {
        const char c = rtf_[at_++];
        if (c == '{') {
            if (groups_.size() < kMaxDepth) groups_.push_back(group());
            begins_group_ = true;
            return;
        }
        if (c == '}') {
            if (groups_.size() > 1) groups_.pop_back();
        } else if (c == '\\') {
            control();
            return;
        } else if (c != '\r' && c != '\n') {
            literal(c);
        }
        begins_group_ = false;
    }

    void literal(char c) {
        if (pending_skip_ > 0) {
            --pending_skip_;
            return;
        }
        if (is_shown()) bytes_ += c;
    }

    void put(std::string_view text) {
        flush_bytes();
        if (is_shown()) out_ += text;
    }

    // Bytes of the code page that stand together make characters together.
    void flush_bytes() {
        if (bytes_.empty()) return;
        out_ += from_code_page(bytes_, code_page_);
        bytes_.clear();
    }

    void control() {
        if (at_ >= rtf_.size()) return;
        const char c = rtf_[at_];
        if (!is_letter(c)) {
            ++at_;
            symbol(c);
            return;
        }
        const std::size_t from = at_;
        while (at_ < rtf_.size() && is_letter(rtf_[at_]) && at_ - from < 32) ++at_;
        const std::string_view word = rtf_.substr(from, at_ - from);
        std::optional<int> value;
        std::size_t end = at_;
        if (end < rtf_.size() && rtf_[end] == '-') ++end;
        while (end < rtf_.size() && rtf_[end] >= '0' && rtf_[end] <= '9' && end - at_ < 11) ++end;
        int number = 0;
        if (std::from_chars(rtf_.data() + at_, rtf_.data() + end, number).ec == std::errc() && end > at_) {
            value = number;
            at_ = end;
        }
        if (at_ < rtf_.size() && rtf_[at_] == ' ') ++at_;
        obey(word, value);
    }

    void symbol(char c) {
        if (c == '*') {
            is_starred_ = true;
            return;
        }
        if (c == '\'') {
            unsigned code = 0;
            if (at_ + 2 > rtf_.size()) return;
            if (std::from_chars(rtf_.data() + at_, rtf_.data() + at_ + 2, code, 16).ec != std::errc()) return;
            at_ += 2;
            literal(static_cast<char>(code));
        } else if (c == '{' || c == '}' || c == '\\') {
            literal(c);
        } else if (c == '~') {
            put("\u00A0");
        } else if (c == '_') {
            put("\u00AD");
        } else if (c == '\r' || c == '\n') {
            put("\r\n");
        }
        begins_group_ = false;
    }

    void obey(std::string_view word, std::optional<int> value) {
        const bool begins = begins_group_, is_starred = is_starred_;
        begins_group_ = is_starred_ = false;
        constexpr std::array kDestinations = {"fonttbl"sv, "colortbl"sv, "stylesheet"sv, "info"sv,     "pict"sv,
                                              "header"sv,  "footer"sv,   "footnote"sv,   "listtable"sv};
        flush_before(word);
        if (word == "fromhtml") {
            is_html_ = true;
        } else if (word == "fromtext") {
            is_plain_ = true;
        } else if (word == "ansicpg" && value) {
            code_page_ = static_cast<unsigned>(std::max(*value, 0));
        } else if (word == "htmltag" && begins && is_starred) {
            group().is_tag = true;
        } else if (word == "htmlrtf") {
            group().is_rtf_only = value.value_or(1) != 0;
        } else if (begins &&
                   (is_starred || std::find(kDestinations.begin(), kDestinations.end(), word) != kDestinations.end())) {
            group().is_skipped = true;
        } else if (word == "uc" && value) {
            group().skip_after_unicode = static_cast<unsigned>(std::clamp(*value, 0, 8));
        } else if (word == "u" && value) {
            unicode(static_cast<std::uint16_t>(*value));
        } else {
            character(word);
        }
    }

    void flush_before(std::string_view word) {
        if (word == "ansicpg" || word == "u" || word == "htmlrtf" || word == "htmltag") flush_bytes();
    }

    void unicode(std::uint16_t unit) {
        pending_skip_ = group().skip_after_unicode;
        if (!is_shown()) return;
        if (unit >= 0xD800 && unit < 0xDC00) {
            high_ = unit;
            return;
        }
        const std::u16string pair = high_ != 0 ? std::u16string{high_, unit} : std::u16string{unit};
        high_ = 0;
        out_ += utf16_to_utf8(pair);
    }

    void character(std::string_view word) {
        struct Named {
            std::string_view word, text;
        };
        constexpr Named kNamed[] = {{"par", "\r\n"},         {"line", "\r\n"},     {"tab", "\t"},
                                    {"lquote", "\u2018"},    {"rquote", "\u2019"}, {"ldblquote", "\u201C"},
                                    {"rdblquote", "\u201D"}, {"bullet", "\u2022"}, {"endash", "\u2013"},
                                    {"emdash", "\u2014"}};
        for (const Named& named : kNamed)
            if (named.word == word) put(named.text);
    }

    static constexpr std::size_t kMaxDepth = 1000;

    std::string_view rtf_;
    std::size_t at_ = 0;
    std::vector<Group> groups_;
    std::string out_, bytes_;
    unsigned code_page_ = 1252, pending_skip_ = 0;
    char16_t high_ = 0;
    bool begins_group_ = false, is_starred_ = false;
    bool is_html_ = false, is_plain_ = false;
};

}  // namespace

std::optional<std::string> unpack_rtf(std::string_view packed, bool& whole) {
    const ByteView view = view_of(packed);
    const auto raw_size = view.u32le(4), kind = view.u32le(8), crc = view.u32le(12);
    if (!crc || (*kind != kPacked && *kind != kStored) || *raw_size > kMaxText) return std::nullopt;
    if (*kind == kStored) {
        whole = whole && packed.size() >= kHeader + *raw_size;
        return std::string(packed.substr(kHeader, *raw_size));
    }
    std::array<char, kRing> ring{};
    std::copy(kDictionary.begin(), kDictionary.end(), ring.begin());
    std::size_t write = kDictionary.size(), at = kHeader;
    std::string text;
    const auto add = [&](char c) {
        text += c;
        ring[write] = c;
        write = (write + 1) % kRing;
    };
    while (at < packed.size() && text.size() < kMaxText) {
        const auto control = static_cast<unsigned char>(packed[at++]);
        for (unsigned bit = 0; bit < 8 && at < packed.size(); ++bit) {
            if ((control >> bit & 1U) == 0) {
                add(packed[at++]);
                continue;
            }
            if (at + 2 > packed.size()) break;
            const unsigned reference =
                static_cast<unsigned char>(packed[at]) << 8U | static_cast<unsigned char>(packed[at + 1]);
            at += 2;
            std::size_t from = reference >> 4;
            if (from == write) return text;  // its end
            for (unsigned n = 0; n < (reference & 0x0FU) + 2; ++n, from = (from + 1) % kRing) add(ring[from]);
        }
    }
    whole = false;  // it ends before its end
    return text;
}

TextInRtf text_in_rtf(std::string_view rtf) { return Extractor(rtf).extract(); }

}  // namespace dredger::stores::mapi
