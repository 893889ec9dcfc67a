#include "scanning/find_name.h"

#include <algorithm>
#include <cctype>
#include <fmt/format.h>

#include "base/text.h"

namespace dredger {
namespace {

constexpr std::size_t kMaxBytes = 96;

bool is_fit(unsigned char c) {
    return c >= 0x20 && c != 0x7F &&
           std::string_view("/\\:*?\"<>|").find(static_cast<char>(c)) == std::string_view::npos;
}

// What programs put there before anybody gave a title, and what templates leave to be filled in.
bool says_nothing(const std::string& title) {
    constexpr std::string_view kNobodys[] = {"untitled",
                                             "untitled document",
                                             "untitled-1",
                                             "untitled 1",
                                             "no title",
                                             "no slide title",
                                             "title",
                                             "name",
                                             "document",
                                             "document1",
                                             "dokument1",
                                             "powerpoint presentation",
                                             "powerpoint-präsentation",
                                             "présentation powerpoint",
                                             "presentación de powerpoint",
                                             "slide 1",
                                             "folie 1",
                                             "presentation1",
                                             "workbook1",
                                             "book1",
                                             "sheet1",
                                             "image",
                                             "new document",
                                             "blank",
                                             "default",
                                             "none",
                                             "null",
                                             "unknown",
                                             "test"};
    const std::string plain = folded(title);
    if (std::find(std::begin(kNobodys), std::end(kNobodys), plain) != std::end(kNobodys)) return true;
    for (const std::string_view mark : {"{{", "${", "<%", "{%", "@@", "%%", "#{"})
        if (plain.find(mark) != std::string::npos) return true;
    if (plain.starts_with('&') && plain.ends_with(';')) return true;
    // A number that is the same for nobody else is no name either.
    const std::size_t digits = static_cast<std::size_t>(
        std::count_if(plain.begin(), plain.end(), [](unsigned char c) { return std::isxdigit(c) != 0; }));
    const bool is_number = plain.find_first_not_of("0123456789abcdef-{}") == std::string::npos;
    return is_number && digits >= 16;
}

// Printers put their program's name before it.
std::string without_program(std::string title) {
    for (const std::string_view program : {"Microsoft Word - ", "Microsoft PowerPoint - ", "Microsoft Excel - "})
        if (title.starts_with(program)) return title.substr(program.size());
    return title;
}

}  // namespace

std::string name_of_find(const Description& said, const Format& format, std::int64_t id) {
    std::string title;
    const std::string told = without_program(printable(said.title));
    for (const char c : says_nothing(told) ? std::string() : told)
        title += is_fit(static_cast<unsigned char>(c)) ? c : '_';
    if (title.size() > kMaxBytes) {
        std::size_t end = kMaxBytes;
        while (end > 0 && (static_cast<unsigned char>(title[end]) & 0xC0U) == 0x80) --end;
        title.resize(end);
    }
    while (!title.empty() && (title.back() == ' ' || title.back() == '.')) title.pop_back();
    while (!title.empty() && (title.front() == ' ' || title.front() == '.')) title.erase(0, 1);
    const std::string_view extension = format.extensions.empty() ? format.name : format.extensions.front();
    if (title.empty()) return fmt::format("unnamed-{}-{}.{}", word_for(format.kind), id, extension);
    // A packed file's own name may bring the extension already.
    if (folded(title).ends_with(fmt::format(".{}", extension))) return title;
    return fmt::format("{}.{}", title, extension);
}

}  // namespace dredger
