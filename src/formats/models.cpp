// Models of three dimensions: glTF in binary (Khronos, 2.0), 3D Studio ("3DS File Format"), FBX in binary and Blender's
// files (both as the developers of Blender describe them).
#include <algorithm>

#include "base/text.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

Measured measure_glb(Reader& content) {
    const std::uint64_t end = content.u32le(8);
    if (content.u32le(4) != 2 || end < 20 || !content.has(16, "JSON")) return nonsense();
    std::uint64_t at = 12;
    while (at + 8 <= end && content.ok()) at += 8 + std::uint64_t{content.u32le(at)};
    if (!content.holds(0, end)) return sized(content, end, Proof::length);
    return at == end ? whole(end, Proof::chain) : broken(std::min(at, end), "its chunks don't fill it", end);
}

Measured measure_3ds(Reader& content) {
    const std::uint64_t end = content.u32le(2);
    if (end < 16 || end > 1 << 30) return nonsense();
    std::uint64_t at = 6;
    bool has_model = false;
    while (at + 6 <= end && content.holds(at, 6)) {
        const unsigned id = content.u16le(at);
        const std::uint64_t size = content.u32le(at + 2);
        if (size < 6 || size > end - at) return at == 6 ? nonsense() : broken(at, "a chunk makes no sense", end);
        has_model = has_model || id == 0x3D3D;
        at += size;
    }
    if (!has_model) return nonsense();
    return at == end ? sized(content, end, Proof::chain)
                     : broken(std::min(at, content.size()), "its end is missing", end);
}

// Nodes that tell where they end, an empty one behind the last of them, then a footer of known bytes.
Measured measure_fbx(Reader& content) {
    constexpr std::string_view kFooter = "\xF8\x5A\x8C\x6A\xDE\xF5\xD9\x7E\xEC\xE9\x0C\xE3\x75\x8F\x29\x0B"sv;
    const bool is_wide = content.u32le(23) >= 7500;
    std::uint64_t at = 27;
    for (unsigned nodes = 0; content.ok(); ++nodes) {
        const std::uint64_t end = is_wide ? content.u64le(at) : content.u32le(at);
        if (end == 0) break;
        if (end <= at || end > std::uint64_t{1} << 40)
            return nodes == 0 ? nonsense() : broken(at, "a node makes no sense");
        at = end;
    }
    at = std::min(at, content.size());
    const auto footer = content.find(kFooter, at, std::min(content.size(), at + 512));
    return footer ? whole(*footer + kFooter.size(), Proof::chain) : broken(at, "its end is missing");
}

Measured measure_blend(Reader& content) {
    const unsigned pointer = content.u8(7) == '-' ? 8 : content.u8(7) == '_' ? 4 : 0;
    const bool big = content.u8(8) == 'V';
    if (pointer == 0 || (!big && content.u8(8) != 'v')) return nonsense();
    std::uint64_t at = 12;
    for (unsigned blocks = 0; content.holds(at, 16 + pointer); ++blocks) {
        const std::uint64_t size = big ? content.u32be(at + 4) : content.u32le(at + 4);
        if (content.has(at, "ENDB")) return sized(content, at + 16 + pointer, Proof::chain);
        for (unsigned i = 0; i < 2; ++i)
            if (const unsigned c = content.u8(at + i); c < '0' || c > 'Z')
                return blocks == 0 ? nonsense() : broken(at, "a block makes no sense");
        at += 16 + pointer + size;
    }
    return broken(std::min(at, content.size()), "its end is missing");
}

}  // namespace

const std::vector<Format>& models() {
    static const std::vector<Format> family = {
        {.name = "glb",
         .kind = Kind::picture,
         .extensions = {"glb", "vrm"},
         .signatures = {{{0, "glTF\2\0\0\0"sv}}},
         .measure = measure_glb,
         .ending = "the size in its header",
         .checked = "the chain of chunks"},
        {.name = "3ds",
         .kind = Kind::picture,
         .extensions = {"3ds"},
         .signatures = {{{0, "MM"sv}, {6, "\2\0"sv}}, {{0, "MM"sv}, {6, "\x3D\x3D"sv}}},
         .measure = measure_3ds,
         .ending = "the size in its header",
         .checked = "the chain of chunks"},
        {.name = "fbx",
         .kind = Kind::picture,
         .extensions = {"fbx"},
         .signatures = {{{0, "Kaydara FBX Binary  \0"sv}}},
         .measure = measure_fbx,
         .ending = "its footer",
         .checked = "the chain of nodes"},
        {.name = "blend",
         .kind = Kind::picture,
         .extensions = {"blend"},
         .signatures = {{{0, "BLENDER"sv}}},
         .measure = measure_blend,
         .ending = "its end block",
         .checked = "the chain of blocks"},
    };
    return family;
}

}  // namespace dredger::formats
