// Options whose value is one of a few words, or several of them; the library has these in the order of its enumeration.
#pragma once

#include <CLI/CLI.hpp>
#include <algorithm>
#include <fmt/ranges.h>
#include <iterator>
#include <string>
#include <string_view>
#include <vector>

namespace dredger::cli {

// The validator of this name tells the words of a list: "{one,two}".
inline constexpr const char* kSeveral = "several";

template <class Word, std::size_t N>
Word word_in(const std::string& text, const std::string_view (&words)[N]) {
    return static_cast<Word>(std::find(std::begin(words), std::end(words), text) - std::begin(words));
}

template <std::size_t N>
CLI::IsMember one_of(const std::string_view (&words)[N]) {
    return CLI::IsMember(std::vector<std::string>(std::begin(words), std::end(words)));
}

// Words with commas between. Which of them are wrong is for those to say who read the list.
template <std::size_t N>
CLI::Validator several_of(const std::string_view (&words)[N]) {
    return {[](std::string&) { return std::string(); }, fmt::format("{{{}}}", fmt::join(words, ",")), kSeveral};
}

}  // namespace dredger::cli
