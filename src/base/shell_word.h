// Words of command lines that people paste.
#pragma once

#include <string>

namespace dredger {

// `text` as a word of a command line that can be pasted: in quotes where a shell would take it for something else.
std::string as_word(const std::string& text);

}  // namespace dredger
