// Words of command lines that people paste.
#pragma once

#include <string>
#include <vector>

namespace dredger {

// `text` as a word of a command line that can be pasted: in quotes where a shell would take it for something else.
std::string as_word(const std::string& text);

// "dredger scan card.img": the program with these words behind it.
std::string command_line(const std::vector<std::string>& words);

}  // namespace dredger
