#include "repairing/archive/zip_headers.h"

#include <algorithm>

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;

constexpr std::uint16_t kZip64Field = 1;
constexpr std::size_t kLongestName = 4096;  // bytes
constexpr unsigned kNewestVersion = 63;

bool is_method(unsigned method) {
    constexpr unsigned kMethods[] = {0, 1, 6, 8, 9, 12, 14, 93, 95, 96, 97, 98, 99};
    return std::find(std::begin(kMethods), std::end(kMethods), method) != std::end(kMethods);
}

bool is_name(std::string_view name) {
    return !name.empty() && std::all_of(name.begin(), name.end(), [](char c) {
        const auto byte = static_cast<unsigned char>(c);
        return byte >= 0x20 && byte != 0x7F;
    });
}

std::uint64_t number_in(std::string_view bytes) {
    std::uint64_t value = 0;
    for (std::size_t i = bytes.size(); i-- > 0;) value = value << 8 | static_cast<unsigned char>(bytes[i]);
    return value;
}

template <class Visit>  // (id, whole field, data)
void each_field(std::string_view extra, const Visit& visit) {
    while (extra.size() >= 4) {
        const auto length = static_cast<std::size_t>(number_in(extra.substr(2, 2)));
        if (4 + length > extra.size()) return;
        visit(number_in(extra.substr(0, 2)), extra.substr(0, 4 + length), extra.substr(4, length));
        extra.remove_prefix(4 + length);
    }
}

void take_long_sizes(ZipHeader& header) {
    each_field(header.extra, [&](std::uint64_t id, std::string_view, std::string_view data) {
        if (id != kZip64Field) return;
        for (std::uint64_t* value : {&header.size, &header.packed, &header.local_at}) {
            if (*value != 0xFFFFFFFF || data.size() < 8) continue;
            *value = number_in(data.substr(0, 8));
            data.remove_prefix(8);
        }
    });
}

// What both headers say alike, from the version on that is needed up to the lengths of name and extra fields. False
// where it is nothing that such headers say.
bool read_common(Reader& content, std::uint64_t at, ZipHeader& header, std::size_t& name, std::size_t& extra) {
    header.version_needed = content.u16le(at);
    header.flags = content.u16le(at + 2);
    header.method = content.u16le(at + 4);
    header.time = content.u16le(at + 6);
    header.date = content.u16le(at + 8);
    header.crc = content.u32le(at + 10);
    header.packed = content.u32le(at + 14);
    header.size = content.u32le(at + 18);
    name = content.u16le(at + 22);
    extra = content.u16le(at + 24);
    return (header.version_needed & 0xFFU) <= kNewestVersion && is_method(header.method) && name <= kLongestName;
}

}  // namespace

std::optional<ZipHeader> read_local_header(Reader& content, std::uint64_t at) {
    if (!content.holds(at, 30) || !content.has(at, "PK\3\4"sv)) return std::nullopt;
    ZipHeader header;
    std::size_t name = 0;
    std::size_t extra = 0;
    header.at = at;
    if (!read_common(content, at + 4, header, name, extra)) return std::nullopt;
    header.end = at + 30 + name + extra;
    if (!content.holds(at, header.end - at)) return std::nullopt;
    header.name = content.text(at + 30, name);
    header.extra = content.text(at + 30 + name, extra);
    if (!is_name(header.name)) return std::nullopt;
    take_long_sizes(header);
    return header;
}

std::optional<ZipHeader> read_central_header(Reader& content, std::uint64_t at, bool unsigned_too) {
    if (!content.holds(at, 46) || (!unsigned_too && !content.has(at, "PK\1\2"sv))) return std::nullopt;
    ZipHeader header;
    std::size_t name = 0;
    std::size_t extra = 0;
    header.at = at;
    header.version_made_by = content.u16le(at + 4);
    if (!read_common(content, at + 6, header, name, extra)) return std::nullopt;
    const std::size_t comment = content.u16le(at + 32);
    header.internal_attributes = content.u16le(at + 36);
    header.external_attributes = content.u32le(at + 38);
    header.local_at = content.u32le(at + 42);
    header.end = at + 46 + name + extra + comment;
    if (!content.holds(at, 46 + name)) return std::nullopt;
    header.name = content.text(at + 46, name);
    if (!is_name(header.name)) return std::nullopt;
    header.extra = content.text(at + 46 + name, extra);
    header.comment = content.text(at + 46 + name + extra, comment);
    take_long_sizes(header);
    return header;
}

std::string lasting_extra(std::string_view extra) {
    std::string kept;
    each_field(extra, [&](std::uint64_t id, std::string_view field, std::string_view) {
        if (id != kZip64Field) kept += field;
    });
    return kept;
}

}  // namespace dredger::repairing
