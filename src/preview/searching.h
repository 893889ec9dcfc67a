// Where content has a text in it: as it stands, or within the documents that pack it.
#pragma once

#include <optional>
#include <string>

#include "catalog/candidate.h"
#include "media/medium.h"

namespace dredger::preview {

// The text of an office document, an e-book, a PDF or mail, up to about `most` bytes of UTF-8, read in a process of its
// own; empty for everything else, and where there is none.
std::string document_text(const Medium& content, const std::string& format, std::size_t most);

struct Passage {
    std::string where;  // "page 3", "sheet Rings", "line 12", "byte 4,711"; may be empty
    std::string line;   // the text with what stands around it, printable
};

// The first place of `text`, which is in UTF-8 and not empty; letter case is ignored, in any script. Looks at the text
// of office documents, e-books, PDF pages and mail, in a process of its own, and else at the bytes as UTF-8 and UTF-16.
std::optional<Passage> passage_with(const Medium& content, const Candidate& candidate, const std::string& text);

}  // namespace dredger::preview
