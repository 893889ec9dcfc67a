// Advanced Systems Format (Microsoft ASF Specification 01.20) with WMV and WMA, and Flash Video (Adobe FLV 10.1).
#include <array>
#include <fmt/format.h>

#include "base/text.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

constexpr std::string_view kHeader = "\x30\x26\xB2\x75\x8E\x66\xCF\x11\xA6\xD9\x00\xAA\x00\x62\xCE\x6C"sv;
constexpr std::string_view kData = "\x36\x26\xB2\x75\x8E\x66\xCF\x11\xA6\xD9\x00\xAA\x00\x62\xCE\x6C"sv;
constexpr std::string_view kProperties = "\xA1\xDC\xAB\x8C\x47\xA9\xCF\x11\x8E\xE4\x00\xC0\x0C\x20\x53\x65"sv;
constexpr std::string_view kContent = "\x33\x26\xB2\x75\x8E\x66\xCF\x11\xA6\xD9\x00\xAA\x00\x62\xCE\x6C"sv;
constexpr std::string_view kVideo = "\xC0\xEF\x19\xBC\x4D\x5B\xCF\x11\xA8\xFD\x00\x80\x5F\x5C\x44\x2B"sv;
constexpr std::array kIndexes = {
    "\x90\x08\x00\x33\xB1\xE5\xCF\x11\x89\xF4\x00\xA0\xC9\x03\x49\xCB"sv,  // Simple Index
    "\xD3\x29\xE2\xD6\xDA\x35\xD1\x11\x90\x34\x00\xA0\xC9\x03\x49\xBE"sv,  // Index
    "\xF8\x03\xB1\xFE\xAD\x12\x64\x4C\x84\x0F\x2A\x1D\x2F\x7A\xD4\x8C"sv,  // Media Object Index
    "\xD0\x3F\xB7\x3C\x4A\x0C\x03\x48\x95\x3D\xED\xF7\xB6\x22\x8F\x0C"sv,  // Timecode Index
};

Measured measure_asf(Reader& content) {
    const std::uint64_t header = content.u64le(16);
    if (header < 30 || header > 64 << 20 || !content.has(header, kData)) return nonsense();
    const std::uint64_t limit = std::min<std::uint64_t>(header, content.size());
    const auto properties = content.find(kProperties, 30, limit);
    if (!properties) return nonsense();
    const std::string_view name = content.find(kVideo, 30, limit) ? "wmv" : "wma";
    const std::uint64_t claimed = content.u64le(*properties + 40);
    const std::uint64_t packet = content.u32le(*properties + 92);
    const std::uint64_t data = content.u64le(header + 16);
    const bool streamed = (content.u32le(*properties + 88) & 1U) != 0;
    if (packet < 64 || packet > 1 << 20 || data > std::uint64_t{1} << 50) return nonsense();

    // Every packet begins with the same kind of flags.
    std::uint64_t at = header + 50;
    const std::uint64_t end = data >= 50 && !streamed ? header + data : content.size();
    const auto is_packet = [&](std::uint64_t p) { return content.holds(p, packet) && (content.u8(p) & 0xF0U) == 0x80; };
    const std::uint64_t first = at;
    while (at + packet <= end && is_packet(at)) at += packet;
    if (at == first) return nonsense();
    if (streamed) return open_ended(at, Proof::chain, name);
    if (at + packet <= end) return broken(std::min(at, content.size()), "the packets stop making sense", claimed, name);
    if (!content.holds(0, end)) return broken(content.size(), "its end is missing", claimed, name);
    at = end;
    for (bool more = true; more;) {
        more = false;
        for (const std::string_view id : kIndexes) {
            if (!content.has(at, id) || !content.holds(at, 24)) continue;
            const std::uint64_t length = content.u64le(at + 16);
            if (length < 24 || !content.holds(at, length)) continue;
            at += length;
            more = true;
        }
    }
    return whole(claimed > at && claimed - at < 4096 && content.holds(0, claimed) ? claimed : at, Proof::chain, name);
}

Description describe_asf(Reader& content, std::uint64_t length) {
    Description said;
    const std::uint64_t limit = std::min<std::uint64_t>(content.u64le(16), length);
    if (const auto at = content.find(kContent, 30, limit)) {
        const std::string title = content.text(*at + 34, content.u16le(*at + 24));
        said.title = utf16le_to_utf8(std::as_bytes(std::span(title)));
        while (!said.title.empty() && said.title.back() == '\0') said.title.pop_back();
    }
    if (const auto at = content.find(kProperties, 30, limit)) {
        said.date = windows_time(content.u64le(*at + 48));
        if (said.date == FileTime{}) said.date.reset();  // 1970: its writer did not know
        said.facts.push_back({"duration", fmt::format("{} s", content.u64le(*at + 64) / 10'000'000)});
    }
    return said;
}

// A header, then tags that each end with their own length.
Measured measure_flv(Reader& content) {
    if (content.u32be(5) != 9 || content.u32be(9) != 0 || (content.u8(4) & 0xFAU) != 0) return nonsense();
    std::uint64_t at = 13;
    unsigned tags = 0;
    for (; content.holds(at, 15); ++tags) {
        const unsigned type = content.u8(at) & 0x1FU;
        const std::uint64_t length = 11 + std::uint64_t{content.u24be(at + 1)};
        const bool is_tag = (type == 8 || type == 9 || type == 18) && content.u24be(at + 8) == 0;
        if (!is_tag) break;
        if (!content.holds(at, length + 4) || content.u32be(at + length) != length)
            return tags < 2 ? nonsense() : broken(at, "a tag is damaged");
        at += length + 4;
    }
    return tags < 2 ? nonsense() : open_ended(at, Proof::chain);
}

}  // namespace

const std::vector<Format>& streaming() {
    constexpr std::string_view kEnding = "the data, and the indexes behind it";
    static const std::vector<Format> family = {
        {.name = "wmv",
         .kind = Kind::video,
         .extensions = {"wmv", "asf"},
         .signatures = {{{0, kHeader}}},
         .measure = measure_asf,
         .describe = describe_asf,
         .ending = kEnding,
         .checked = "the head of every packet"},
        {.name = "wma", .kind = Kind::audio, .extensions = {"wma"}, .signatures = {{{0, kHeader}}}, .told_by = "wmv"},
        {.name = "flv",
         .kind = Kind::video,
         .extensions = {"flv"},
         .signatures = {{{0, "FLV\1"sv}}},
         .measure = measure_flv,
         .ending = "the last tag",
         .checked = "both lengths of every tag"},
    };
    return family;
}

}  // namespace dredger::formats
