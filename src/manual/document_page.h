// Manual pages from the project's documents, which are written in Markdown (CommonMark, with tables).
#pragma once

#include <string>
#include <string_view>

#include "base/error.h"

namespace dredger::manual {

struct DocumentPage {
    std::string name;   // "dredger-catalog"
    int section = 5;    // 5: of files; 7: of the matter
    std::string brief;  // what it is about, in some words
};

// `markdown`: its first heading gives way to the page's name. Links to other documents stay as their text.
Result<std::string> document_page(const DocumentPage& page, const std::string& markdown, std::string_view date);

}  // namespace dredger::manual
