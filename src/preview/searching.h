// Whether content has a text in it: as it stands, or within the documents that pack it.
#pragma once

#include <string>

#include "catalog/candidate.h"
#include "media/medium.h"

namespace dredger::preview {

// The text of an office document, an e-book, a PDF or mail, up to about `most` bytes of UTF-8, read in a process of its
// own; empty for everything else, and where there is none.
std::string document_text(const Medium& content, const std::string& format, std::size_t most);

// `text` in UTF-8, not empty; letter case is ignored, in any script. Looks at the bytes as UTF-8 and UTF-16, at
// the text of office documents and e-books, and of PDF pages; the latter two in a process of their own.
bool contains(const Medium& content, const Candidate& candidate, const std::string& text);

}  // namespace dredger::preview
