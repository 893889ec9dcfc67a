#include "repairing/office/xml_cut.h"

#include <algorithm>
#include <set>
#include <vector>

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;

bool is_space(char c) { return c == ' ' || c == '\t' || c == '\r' || c == '\n'; }

bool is_name_byte(char c) {
    const auto byte = static_cast<unsigned char>(c);
    return byte >= 0x80 || (byte >= 'a' && byte <= 'z') || (byte >= 'A' && byte <= 'Z') ||
           (byte >= '0' && byte <= '9') || c == ':' || c == '_' || c == '-' || c == '.';
}

class Walk {
  public:
    explicit Walk(std::string_view xml) : xml_(xml) {}

    CutXml run() {
        while (at_ < xml_.size() && (text() && token())) good_ = at_;
        CutXml result;
        result.was_whole = good_ == xml_.size() && open_.empty() && has_root_;
        result.kept = good_;
        if (!has_root_) return result;
        result.text = xml_.substr(0, good_);
        for (auto name = open_.rbegin(); name != open_.rend(); ++name) result.text += "</" + std::string(*name) + ">";
        return result;
    }

  private:
    // Characters up to the next tag. What of them is damaged or cut off is left out.
    bool text() {
        while (at_ < xml_.size() && xml_[at_] != '<') {
            if (xml_[at_] == '&') {
                const std::size_t end = xml_.find(';', at_);
                if (end == xml_.npos || end - at_ > 10) return false;
                at_ = end;
            }
            if (open_.empty() && !is_space(xml_[at_]) && at_ >= 3) return false;  // but for a byte order mark
            ++at_;
            if (!open_.empty() && (at_ == xml_.size() || (static_cast<unsigned char>(xml_[at_]) & 0xC0U) != 0x80))
                good_ = at_;
        }
        return true;
    }

    bool token() {
        if (at_ == xml_.size()) return true;
        for (const auto& [start, end] :
             {std::pair{"<!--"sv, "-->"sv}, {"<![CDATA["sv, "]]>"sv}, {"<?"sv, "?>"sv}, {"<!DOCTYPE"sv, ">"sv}}) {
            if (!xml_.substr(at_).starts_with(start)) continue;
            const std::size_t found = xml_.find(end, at_ + start.size());
            if (found == xml_.npos) return false;
            at_ = found + end.size();
            return true;
        }
        ++at_;
        return at_ < xml_.size() && (xml_[at_] == '/' ? end_tag() : start_tag());
    }

    std::string_view name() {
        const std::size_t from = at_;
        while (at_ < xml_.size() && is_name_byte(xml_[at_])) ++at_;
        return xml_.substr(from, at_ - from);
    }
    void spaces() {
        while (at_ < xml_.size() && is_space(xml_[at_])) ++at_;
    }
    bool takes(char c) {
        if (at_ >= xml_.size() || xml_[at_] != c) return false;
        ++at_;
        return true;
    }

    bool end_tag() {
        ++at_;
        const std::string_view closed = name();
        spaces();
        if (open_.empty() || open_.back() != closed || !takes('>')) return false;
        open_.pop_back();
        return true;
    }

    bool start_tag() {
        const std::string_view element = name();
        if (element.empty() || (open_.empty() && has_root_)) return false;
        std::set<std::string_view> attributes;
        std::vector<std::string_view> prefixes = {prefix_of(element)};
        for (;;) {
            spaces();
            if (takes('>')) {
                if (!are_declared(prefixes)) return false;
                open_.push_back(element);
                break;
            }
            if (takes('/')) {
                if (!takes('>') || !are_declared(prefixes)) return false;
                break;
            }
            const std::string_view attribute = name();
            if (attribute.empty() || !attributes.insert(attribute).second || !takes('=')) return false;
            const char quote = at_ < xml_.size() ? xml_[at_] : '\0';
            if (quote != '"' && quote != '\'') return false;
            const std::size_t end = xml_.find(quote, at_ + 1);
            if (end == xml_.npos || xml_.substr(at_, end - at_).find('<') != std::string_view::npos) return false;
            at_ = end + 1;
            if (attribute.starts_with("xmlns:"))
                declared_.insert(attribute.substr(6));
            else
                prefixes.push_back(prefix_of(attribute));
        }
        has_root_ = true;
        return true;
    }

    static std::string_view prefix_of(std::string_view name) {
        const std::size_t colon = name.find(':');
        return colon == name.npos ? std::string_view() : name.substr(0, colon);
    }
    bool are_declared(const std::vector<std::string_view>& prefixes) const {
        return std::all_of(prefixes.begin(), prefixes.end(), [&](std::string_view prefix) {
            return prefix.empty() || prefix == "xml" || prefix == "xmlns" || declared_.contains(prefix);
        });
    }

    std::string_view xml_;
    std::size_t at_ = 0, good_ = 0;  // bytes; up to `good_` it is well-formed
    std::vector<std::string_view> open_;
    std::set<std::string_view> declared_;  // prefixes, anywhere before
    bool has_root_ = false;
};

}  // namespace

CutXml cut_xml(std::string_view xml) { return Walk(xml).run(); }

}  // namespace dredger::repairing
