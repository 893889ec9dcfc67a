// Numbers and names as people read them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "base/amounts.h"
#include "base/shell_word.h"
#include "bins/contents.h"
#include "catalog/candidate.h"

namespace dredger::cli {

std::string time_text(const std::optional<FileTime>& time);  // "-" where there is none

// "1 file", "2 files".
std::string counted(std::uint64_t count, std::string_view one, std::string_view many = {});

// "17 files and 2 folders (1.4 MiB), thrown away 2019-05-26 to 2023-12-09".
std::string bin_text(const BinContents& contents);

// The prospect as a small bar, a number and its word, in the colour of its band.
std::string meter(const Prospect& prospect);

// How many columns of a terminal the text takes; East Asian characters and emoji take two.
std::size_t display_width(std::string_view text);

// `text` in lines of at most `width` columns, all but the first indented by `indent`.
std::string wrapped(const std::string& text, std::size_t width, std::size_t indent);

// `text` behind `indent` columns that are taken already, in lines of at most `width` columns, the further ones indented
// as far.
std::string wrapped_behind(const std::string& text, std::size_t width, std::size_t indent);
// Each line of `text` wrapped, its further lines indented two columns more than its first one.
std::string wrapped_lines(const std::string& text, std::size_t width);
// A command line in lines of at most `width` columns, as far as its words allow, that a shell takes for one.
std::string pasteable(const std::string& command, std::size_t width);

// `text` with its middle replaced by an ellipsis where it takes more than `most` columns.
std::string shortened(const std::string& text, std::size_t most);
// A path that takes no more: its folders give way first, then the middle of its name, which never loses its end.
std::string shortened_path(const std::string& path, std::size_t most);

}  // namespace dredger::cli
