#include "formats/tar_header.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kMaxSize = std::uint64_t{1} << 50;

bool has_right_sum(Reader& content, std::uint64_t at) {
    unsigned sum = 8 * ' ';
    for (unsigned i = 0; i < TarHeader::kBlock; ++i) sum += i >= 148 && i < 156 ? 0U : content.u8(at + i);
    unsigned stated = 0;
    const std::string digits = content.text(at + 148, 8);
    for (const char c : digits) {
        if (c >= '0' && c <= '7')
            stated = stated * 8 + static_cast<unsigned>(c - '0');
        else if (c != ' ' || stated != 0)
            break;
    }
    return sum == stated;
}

std::uint64_t size_at(Reader& content, std::uint64_t at) {
    if ((content.u8(at + 124) & 0x80U) != 0) return content.u64be(at + 128);
    std::uint64_t size = 0;
    for (const char c : content.text(at + 124, 12))
        if (c >= '0' && c <= '7') size = size * 8 + static_cast<std::uint64_t>(c - '0');
    return size;
}

std::string text_at(Reader& content, std::uint64_t at, std::size_t length) {
    const std::string text = content.text(at, length);
    return text.substr(0, text.find('\0'));
}

}  // namespace

std::optional<TarHeader> tar_header_at(Reader& content, std::uint64_t at) {
    if (!content.holds(at, TarHeader::kBlock) || !has_right_sum(content, at)) return std::nullopt;
    TarHeader header;
    header.type = static_cast<char>(content.u8(at + 156));
    const bool has_content = header.type < '1' || header.type > '6';  // links, devices, folders
    header.size = has_content ? size_at(content, at) : 0;
    if (header.size > kMaxSize) return std::nullopt;
    header.name = text_at(content, at, 100);
    if (content.has(at + 257, std::string_view("ustar\0", 6)))
        if (const std::string prefix = text_at(content, at + 345, 155); !prefix.empty())
            header.name = prefix + "/" + header.name;
    return header;
}

}  // namespace dredger::formats
