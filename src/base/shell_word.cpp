#include "base/shell_word.h"

#include <algorithm>
#include <string_view>

namespace dredger {

std::string as_word(const std::string& text) {
    constexpr std::string_view kPlain = "_-./:@%+=,";
    const auto is_plain = [&](char c) {
        return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
               kPlain.find(c) != kPlain.npos || static_cast<unsigned char>(c) >= 0x80;
    };
    if (!text.empty() && std::all_of(text.begin(), text.end(), is_plain)) return text;
    std::string word = "'";
    for (const char c : text) word += c == '\'' ? std::string("'\\''") : std::string(1, c);
    return word + "'";
}

std::string command_line(const std::vector<std::string>& words) {
    std::string line = "dredger";
    for (const std::string& word : words) line += " " + as_word(word);
    return line;
}

}  // namespace dredger
