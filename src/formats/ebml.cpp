#include "formats/ebml.h"

namespace dredger::formats::ebml {

std::optional<Element> element_at(Reader& content, std::uint64_t at) {
    const unsigned first = content.u8(at);
    const auto id_bytes = static_cast<unsigned>(__builtin_clz(first | 1U)) - 23U;
    if (first < 0x10) return std::nullopt;
    Element e;
    e.at = at;
    for (unsigned i = 0; i < id_bytes; ++i) e.id = e.id << 8 | content.u8(at + i);
    at += id_bytes;
    const unsigned head = content.u8(at);
    if (head == 0 || !content.holds(at, 1)) return std::nullopt;
    const auto size_bytes = static_cast<unsigned>(__builtin_clz(head)) - 23U;
    std::uint64_t size = head & ((1U << (8 - size_bytes)) - 1);
    bool all_ones = size == (1U << (8 - size_bytes)) - 1;
    for (unsigned i = 1; i < size_bytes; ++i) {
        const unsigned byte = content.u8(at + i);
        size = size << 8 | byte;
        all_ones = all_ones && byte == 0xFF;
    }
    e.start = at + size_bytes;
    e.size = all_ones ? kUnknown : size;
    if (!all_ones && size > std::uint64_t{1} << 50) return std::nullopt;
    return e;
}

}  // namespace dredger::formats::ebml
