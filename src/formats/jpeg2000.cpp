#include "formats/jpeg2000.h"

#include <algorithm>
#include <fmt/format.h>

#include "formats/families.h"

namespace dredger::formats {
namespace {

constexpr unsigned SOT = 0xFF90;  // the marker of a tile part

// Packets hold no two bytes above FF8F, so that the first end marker behind a tile part without a length is the end.
std::optional<std::uint64_t> end_marker(Reader& content, std::uint64_t at) {
    const auto found = content.find("\xFF\xD9"sv, at, content.size());
    return found ? std::optional(*found + 2) : std::nullopt;
}

}  // namespace

Measured measure_codestream(Reader& content, std::uint64_t from) {
    std::uint64_t at = from + 2;
    if (!content.has(from, "\xFF\x4F\xFF\x51"sv)) return nonsense();  // SOC, SIZ
    const std::uint64_t width = content.u32be(at + 6), height = content.u32be(at + 10);
    const unsigned components = content.u16be(at + 38);
    if (width == 0 || height == 0 || components == 0 || content.u16be(at + 2) != 38 + 3 * components) return nonsense();
    // The main header: segments up to the first tile part.
    while (content.u16be(at) != SOT) {
        const unsigned marker = content.u16be(at), length = content.u16be(at + 2);
        if (marker < 0xFF50 || marker > 0xFF6F || length < 2 || !content.ok()) return nonsense();
        at += 2 + length;
    }
    unsigned parts = 0;
    while (content.holds(at, 12) && content.u16be(at) == SOT) {
        const std::uint64_t length = content.u32be(at + 6);
        if (content.u16be(at + 2) != 10) break;
        if (length == 0) {
            const auto end = end_marker(content, at + 12);
            return end ? whole(*end - from, Proof::chain) : broken(content.size() - from, "its end marker is missing");
        }
        if (length < 14) break;
        if (!content.holds(at, length))
            return broken_between(at - from, content.size() - from, "its last tile part is cut", at + length - from);
        at += length;
        ++parts;
    }
    if (parts == 0) return nonsense();
    if (content.has(at, "\xFF\xD9"sv)) return whole(at + 2 - from, Proof::chain);
    return broken(std::min(at, content.size()) - from, "its end marker is missing");
}

namespace {

Measured measure_bare(Reader& content) { return measure_codestream(content, 0); }

Description describe_bare(Reader& content, std::uint64_t) {
    Description said;
    said.facts.push_back({"width", fmt::format("{}", content.u32be(8) - content.u32be(16))});
    said.facts.push_back({"height", fmt::format("{}", content.u32be(12) - content.u32be(20))});
    return said;
}

}  // namespace

const std::vector<Format>& jpeg2000() {
    static const std::vector<Format> family = {
        {.name = "j2k",
         .kind = Kind::picture,
         .extensions = {"j2k", "j2c", "jpc"},
         .signatures = {{{0, "\xFF\x4F\xFF\x51\0"sv}}},
         .measure = measure_bare,
         .describe = describe_bare,
         .ending = "its end marker",
         .checked = "the chain of tile parts"},
    };
    return family;
}

}  // namespace dredger::formats
