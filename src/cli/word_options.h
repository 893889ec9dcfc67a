// Options whose value is one of a few words; the library has them in the order of its enumeration.
#pragma once

#include <CLI/CLI.hpp>
#include <algorithm>
#include <iterator>
#include <string>
#include <string_view>
#include <vector>

namespace dredger::cli {

template <class Word, std::size_t N>
Word word_in(const std::string& text, const std::string_view (&words)[N]) {
    return static_cast<Word>(std::find(std::begin(words), std::end(words), text) - std::begin(words));
}

template <std::size_t N>
CLI::IsMember one_of(const std::string_view (&words)[N]) {
    return CLI::IsMember(std::vector<std::string>(std::begin(words), std::end(words)));
}

}  // namespace dredger::cli
