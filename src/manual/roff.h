// Text as the macros of manual pages (man(7)) want it.
#pragma once

#include <string>
#include <string_view>

namespace dredger::manual {

// The same text, whatever stands in it.
std::string escaped(std::string_view text);

// Paragraphs and, of the lines that begin with two spaces, blocks that keep their lines.
std::string prose(std::string_view text);

// Without the paragraphs that begin where a section begins, which formatters warn of.
std::string without_empty_paragraphs(std::string text);

// The head of a page: "dredger-scan", 1. `date`: YYYY-MM-DD.
std::string page_head(std::string_view name, int section, std::string_view date);

}  // namespace dredger::manual
