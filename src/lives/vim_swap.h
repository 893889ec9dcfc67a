// The swap file in which Vim keeps a text while it is edited (source: Vim's src/memline.c, structures block0,
// pointer_block and data_block): blocks of one page size; block 0 tells what is edited, block 1 is the root of a tree
// whose leaves hold the lines.
#pragma once

#include "lives/habit.h"

namespace dredger::lives {

struct SwapText {
    std::string text;           // as far as it can be had, with the line ends of the document
    std::uint64_t lines = 0;    // that stand in it
    std::uint64_t missing = 0;  // lines that the tree counts and that are not there
    bool is_encrypted = false;  // then there is no text
    std::string path;           // of the document, as the editor named it; "~user/..." where it lay in a home
    std::string user, host;     // who edited it, and where
};

// None where it is no such file.
std::optional<SwapText> text_of_vim_swap(Reader& content);

// The text as a medium of its own; null where it is no such file, or not all of the text can be had.
MediumPtr document_in_swap(const Medium& content);

ToldByContent told_by_vim_swap(Reader& content);

}  // namespace dredger::lives
