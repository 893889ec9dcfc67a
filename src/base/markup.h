// Text within HTML and XML.
#pragma once

#include <string>
#include <string_view>

namespace dredger {

// With the characters of mark-up as entities, and without those that XML does not allow.
inline std::string escaped(std::string_view text) {
    std::string out;
    for (const char c : text) {
        if (c == '&')
            out += "&amp;";
        else if (c == '<')
            out += "&lt;";
        else if (c == '>')
            out += "&gt;";
        else if (c == '"')
            out += "&quot;";
        else if (static_cast<unsigned char>(c) < 0x20 && c != '\n' && c != '\t')
            out += "\xEF\xBF\xBD";
        else
            out += c;
    }
    return out;
}

}  // namespace dredger
