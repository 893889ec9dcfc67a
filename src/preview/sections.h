// The text of a document in the sections that people know it by: pages, slides, sheets, messages.
#pragma once

#include <string>
#include <vector>

#include "media/medium.h"

namespace dredger::preview {

struct Section {
    std::string where;  // "page 3", "slide 2", "sheet Rings", "message 14", "notes"; empty: the document itself
    std::string text;   // UTF-8
};

// Of an office document, an e-book, a PDF or mail, up to about `most` bytes in all, read in a process of its own; empty
// for everything else, and where there is no text.
std::vector<Section> sections_of(const Medium& content, const std::string& format, std::size_t most);

}  // namespace dredger::preview
