// How names of safety copies are made from the name of their document, as a text with places for what differs:
//
//     {name}  the document's whole name              {n}     digits
//     {stem}  its name without the extension         {x}     letters and digits
//     {tail}  its name, but for up to two letters    {date}  a day, or a day and a time, however it is written
//     {ending} words, and the document's stem last   {hex}   eight hexadecimal digits
//     {path}  in a folder: the folders that the document lies in
//     {!path} {%path}  its whole path, with this sign for the slashes
//     {x6}    six letters and digits                 {c}     one letter
//     *       anything, nothing too; in a folder also several folders
//
// All else stands for itself; letters of either case.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/times.h"

namespace dredger::lives {

struct Captured {
    std::string name, stem, tail, ending, path;  // empty: the pattern has none
    std::optional<FileTime> date;
};

class Pattern {
  public:
    explicit Pattern(std::string_view text);

    // What stands at the places, where the whole of `text` is made so.
    std::optional<Captured> match(std::string_view text) const;

  private:
    enum class Place { literal, name, stem, tail, ending, path, coded, digits, word, six, letter, hex, date, anything };
    struct Token {
        Place place;
        std::string literal;  // of a coded path: the sign
    };
    struct Attempt;
    bool match_from(Attempt& attempt, std::size_t token, std::size_t at) const;
    bool match_here(Attempt& attempt, std::size_t token, std::size_t at) const;
    void add_literal(char c);

    std::vector<Token> tokens_;
    std::size_t least_ = 0;  // bytes that a text must have
    std::string longest_;    // of what stands for itself: most texts don't have it, and need no closer look
};

// A day, or a day and a time, at the start of `text`: its parts in the order of a calendar's size, of two digits but
// for the year, with one of "-_.: T" between them or none; "UTC" or "Z" may follow. `length`: bytes that it takes.
struct DateInName {
    FileTime time;
    std::size_t length = 0;
};
std::optional<DateInName> date_at_start(std::string_view text);

}  // namespace dredger::lives
