// What can still be read of an office document that can't be made to open.
#pragma once

#include <string>
#include <string_view>

#include "formats/reader.h"
#include "repairing/mending.h"

namespace dredger::repairing {

// The text of a part, a paragraph a line and the cells of a table with tabs between them; empty where there is none.
std::string text_of_xml(const std::string& xml);

// The same of a piece of a part, which is no whole XML.
std::string text_between_tags(std::string_view piece);

// Runs of text in content of which no structure is left, in the code page of older programs and in UTF-16, a run a
// line.
std::string text_in(Reader& content);

// Adds what was read and seen, of any document, as files beside the (missing) result.
Result<void> save_beside(Mended& done, const Workbench& bench, const std::string& text, std::string_view name);
Result<void> save_pictures_beside(Mended& done, const Damaged& file, const Workbench& bench);

}  // namespace dredger::repairing
