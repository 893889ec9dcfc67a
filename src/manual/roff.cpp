#include "manual/roff.h"

#include <algorithm>
#include <fmt/format.h>
#include <sstream>

namespace dredger::manual {

std::string escaped(std::string_view text) {
    std::string out;
    bool begins_line = true;
    for (const char c : text) {
        // A control line begins with one of these.
        if (begins_line && (c == '.' || c == '\'')) out += "\\&";
        begins_line = c == '\n';
        switch (c) {
            case '\\': out += "\\e"; break;
            case '-': out += "\\-"; break;
            case '~': out += "\\(ti"; break;
            case '^': out += "\\(ha"; break;
            case '`': out += "\\(ga"; break;
            default: out += c;
        }
    }
    return out;
}

std::string prose(std::string_view text) {
    std::istringstream lines{std::string(text)};
    std::string out, line;
    enum class Within { nothing, paragraph, block } within = Within::nothing;
    const auto go_to = [&](Within next) {
        if (within == next) return;
        if (within == Within::block) out += ".EE\n.RE\n";
        if (next == Within::paragraph) out += ".PP\n";
        if (next == Within::block) out += ".PP\n.RS 4\n.EX\n";
        within = next;
    };
    while (std::getline(lines, line)) {
        if (line.empty()) {
            go_to(Within::nothing);
        } else if (line.starts_with("  ")) {
            go_to(Within::block);
            out += escaped(line.substr(2)) + "\n";
        } else {
            go_to(Within::paragraph);
            out += escaped(line) + "\n";
        }
    }
    go_to(Within::nothing);
    return out;
}

std::string without_empty_paragraphs(std::string text) {
    for (std::size_t at = text.find("\n.PP\n"); at != text.npos; at = text.find("\n.PP\n", at + 1)) {
        const std::size_t line = at == 0 ? 0 : text.rfind('\n', at - 1) + 1;
        const std::string_view before = std::string_view(text).substr(line, 4);
        if (before == ".SH " || before == ".SS ") text.erase(at + 1, 4);
    }
    return text;
}

std::string page_head(std::string_view name, int section, std::string_view date) {
    std::string title(name);
    std::transform(title.begin(), title.end(), title.begin(),
                   [](char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c; });
    return fmt::format(".TH {} {} {} \"Dredger\" \"Dredger manual\"\n", title, section, date);
}

}  // namespace dredger::manual
