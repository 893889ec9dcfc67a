#include "preview/safe_markup.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>

#include "base/text.h"

namespace dredger::preview {
namespace {

using namespace std::string_view_literals;

constexpr std::array kKept = {
    "p"sv,   "br"sv,    "div"sv,   "span"sv,  "b"sv,          "i"sv,  "u"sv,      "s"sv,   "em"sv,      "strong"sv,
    "h1"sv,  "h2"sv,    "h3"sv,    "h4"sv,    "h5"sv,         "h6"sv, "ul"sv,     "ol"sv,  "li"sv,      "dl"sv,
    "dt"sv,  "dd"sv,    "pre"sv,   "code"sv,  "blockquote"sv, "hr"sv, "center"sv, "sub"sv, "sup"sv,     "small"sv,
    "big"sv, "table"sv, "thead"sv, "tbody"sv, "tfoot"sv,      "tr"sv, "td"sv,     "th"sv,  "caption"sv, "tt"sv};
// With all that stands in them.
constexpr std::array kDropped = {"script"sv, "style"sv, "head"sv,     "title"sv,    "iframe"sv,   "object"sv,
                                 "svg"sv,    "math"sv,  "template"sv, "noscript"sv, "textarea"sv, "select"sv};

template <std::size_t N>
bool is_among(const std::array<std::string_view, N>& list, std::string_view name) {
    return std::find(list.begin(), list.end(), name) != list.end();
}

class Cleaner {
  public:
    Cleaner(std::string_view html, const PictureOf& picture_of) : html_(html), picture_of_(picture_of) {}

    std::string run() {
        while (at_ < html_.size()) {
            if (html_[at_] == '<')
                tag();
            else
                character(html_[at_++]);
        }
        return std::move(out_);
    }

  private:
    // An entity stays what it is; a sign that could begin a tag is none.
    void character(char c) {
        if (c == '>')
            out_ += "&gt;";
        else if (static_cast<unsigned char>(c) >= ' ' || c == '\n' || c == '\t')
            out_ += c;
    }

    void tag() {
        if (html_.substr(at_, 4) == "<!--") {
            skip_behind("-->", at_ + 4);
            return;
        }
        std::size_t name = at_ + 1;
        const bool is_end = name < html_.size() && html_[name] == '/';
        if (is_end) ++name;
        std::size_t behind = name;
        while (behind < html_.size() && std::isalnum(static_cast<unsigned char>(html_[behind])) != 0) ++behind;
        if (behind == name && !(name < html_.size() && (html_[name] == '!' || html_[name] == '?'))) {
            out_ += "&lt;";
            ++at_;
            return;
        }
        const std::string what = folded(html_.substr(name, behind - name));
        const std::size_t end = end_of_tag(behind);
        const std::string_view attributes = html_.substr(behind, end - behind);
        at_ = std::min(end + 1, html_.size());
        if (!is_end && is_among(kDropped, what)) {
            skip_behind("</" + what, at_);
            skip_behind(">", at_);
        } else if (is_among(kKept, what)) {
            out_ += fmt::format("<{}{}>", is_end ? "/" : "", what);
        } else if (what == "img" && !is_end) {
            picture(attributes);
        }
    }

    // A sign within quotes does not end it.
    std::size_t end_of_tag(std::size_t at) const {
        char quote = 0;
        for (; at < html_.size(); ++at) {
            if (quote != 0)
                quote = html_[at] == quote ? '\0' : quote;
            else if (html_[at] == '"' || html_[at] == '\'')
                quote = html_[at];
            else if (html_[at] == '>')
                return at;
        }
        return html_.size();
    }

    void skip_behind(const std::string& mark, std::size_t from) {
        for (std::size_t at = from; at + mark.size() <= html_.size(); ++at)
            if (folded(html_.substr(at, mark.size())) == mark) {
                at_ = at + mark.size();
                return;
            }
        at_ = html_.size();
    }

    void picture(std::string_view attributes) {
        const std::size_t at = attributes.find("cid:");
        if (at == attributes.npos) {
            out_ += "<i>[picture left out]</i>";
            return;
        }
        const std::size_t end = std::min(attributes.find_first_of("\"' >", at), attributes.size());
        const std::string uri = picture_of_(std::string(attributes.substr(at + 4, end - at - 4)));
        if (uri.find_first_of("\"<>") == std::string::npos && uri.starts_with("data:image/"))
            out_ += fmt::format("<img src=\"{}\" alt=\"\">", uri);
    }

    std::string_view html_;
    const PictureOf& picture_of_;
    std::size_t at_ = 0;
    std::string out_;
};

}  // namespace

std::string safe_markup(std::string_view html, const PictureOf& picture_of) { return Cleaner(html, picture_of).run(); }

}  // namespace dredger::preview
