#include "scanning/find_name.h"

#include <fmt/format.h>

#include "base/text.h"

namespace dredger {
namespace {

constexpr std::size_t kMostBytes = 96;

bool is_fit(unsigned char c) {
    return c >= 0x20 && c != 0x7F &&
           std::string_view("/\\:*?\"<>|").find(static_cast<char>(c)) == std::string_view::npos;
}

}  // namespace

std::string name_of_find(const Description& said, const Format& format, std::int64_t id) {
    std::string title;
    for (const char c : printable(said.title)) title += is_fit(static_cast<unsigned char>(c)) ? c : '_';
    if (title.size() > kMostBytes) {
        std::size_t end = kMostBytes;
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
