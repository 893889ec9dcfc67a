// The text of documents that are kept in compound files ([MS-CFB]): Word, Excel and PowerPoint up to 2003, Outlook
// messages.
#pragma once

#include <string>

#include "formats/reader.h"

namespace dredger::preview {

// Up to `most` bytes; empty where there is none.
std::string compound_text(Reader& content, std::size_t most);

}  // namespace dredger::preview
