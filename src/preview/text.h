// The first page of what there is to read in content.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "formats/part.h"

namespace dredger::preview {

constexpr std::size_t kMaxText = 4000;  // bytes of UTF-8

// No more than `most` bytes, in whole characters.
std::string cut_to_characters(std::string text, std::size_t most = kMaxText);

// What stands between tags; paragraphs, rows and breaks begin lines.
std::string text_of_markup(std::string_view markup, std::size_t most = kMaxText);

// Characters as they stand, in UTF-8, UTF-16 or an old code page; without the tags of mark-up.
std::string plain_text(Reader& content, bool is_markup);

// The entries of a ZIP in the order of their bytes, damaged ones too, up to where nothing leads on; at most `most`.
std::vector<Part> entries_of(Reader& content, std::size_t most);

// The picture that an office document, a drawing or an e-book carries of itself, still packed as JPEG or PNG; empty
// where there is none.
std::string own_thumbnail(Reader& content);

// The text of the first part of an office document or an e-book that is kept in a ZIP, up to `most` bytes; empty where
// there is none.
std::string office_text(Reader& content, std::size_t most = kMaxText);

}  // namespace dredger::preview
