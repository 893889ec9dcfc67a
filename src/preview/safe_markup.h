// HTML of a stranger, for people to look at: nothing of it runs, loads or leads anywhere.
#pragma once

#include <functional>
#include <string>
#include <string_view>

namespace dredger::preview {

// Gives a picture of the message itself as a data URI, by the id that the text calls it by; empty: there is none.
using PictureOf = std::function<std::string(const std::string& content_id)>;

// Only tags that lay out text are kept, without their attributes; pictures only where `picture_of` has them. UTF-8.
std::string safe_markup(std::string_view html, const PictureOf& picture_of);

}  // namespace dredger::preview
