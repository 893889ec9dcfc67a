#include "formats/jpeg_huffman.h"

#include <map>

namespace dredger::formats {

bool JpegHuffman::define(const std::array<std::uint8_t, 16>& counts, const std::vector<std::uint8_t>& symbols) {
    symbols_ = symbols;
    definition_.assign(counts.begin(), counts.end());
    definition_.append(symbols.begin(), symbols.end());
    short_codes_.fill({});
    std::uint32_t code = 0;
    std::size_t index = 0;
    for (unsigned length = 1; length <= 16; ++length, code <<= 1) {
        const unsigned count = counts[length - 1];
        first_index_[length] = static_cast<std::int32_t>(index) - static_cast<std::int32_t>(code);
        last_code_[length] = count == 0 ? -1 : static_cast<std::int32_t>(code + count - 1);
        for (unsigned i = 0; i < count; ++i, ++code, ++index) {
            if (index >= symbols.size() || code >= 1U << length) return false;
            if (length > kLookup) continue;
            const std::uint32_t first = code << (kLookup - length);
            for (std::uint32_t fill = 0; fill < 1U << (kLookup - length); ++fill)
                short_codes_[first + fill] = {static_cast<std::uint8_t>(length), symbols[index]};
        }
    }
    return index > 0;
}

JpegHuffman::Entry JpegHuffman::decode(std::uint32_t peeked) const {
    const Entry entry = short_codes_[peeked >> (16 - kLookup)];
    if (entry.bits != 0) return entry;
    for (unsigned length = kLookup + 1; length <= 16; ++length) {
        const auto code = static_cast<std::int32_t>(peeked >> (16 - length));
        if (last_code_[length] < 0 || code > last_code_[length]) continue;
        const auto index = static_cast<std::size_t>(std::int64_t{first_index_[length]} + code);
        if (index < symbols_.size()) return {static_cast<std::uint8_t>(length), symbols_[index]};
    }
    return {};
}

namespace {

// A stride that has passed `bits` and `advance` coefficients, and all codes behind them that lie within the look-up.
JpegStride with_ac(unsigned bits, unsigned advance, std::uint32_t prefix, const JpegHuffman& codes) {
    bool ends = false;
    while (bits < JpegStride::kLookup && !ends) {
        const JpegHuffman::Entry entry = codes.decode_short(prefix << bits & ((1U << JpegStride::kLookup) - 1));
        if (entry.bits == 0 || bits + entry.bits > JpegStride::kLookup) break;
        const unsigned run = entry.symbol >> 4;
        const unsigned size = entry.symbol & 15U;
        ends = size == 0 && run == 0;
        if ((size == 0 && run != 0 && run != 15) || advance + run + 1 > 63) break;
        if (bits + entry.bits + size > JpegStride::kMaxBits) break;
        bits += entry.bits + size;
        if (!ends) advance += run + 1;
    }
    return bits > 0 ? JpegStride(bits, advance, ends) : JpegStride();
}

JpegStrides make_ac(const JpegHuffman& codes) {
    JpegStrides table;
    for (std::uint32_t prefix = 0; prefix < table.size(); ++prefix) table[prefix] = with_ac(0, 0, prefix, codes);
    return table;
}

JpegStrides make_block(const JpegHuffman& dc, const JpegHuffman& ac) {
    JpegStrides table;
    for (std::uint32_t prefix = 0; prefix < table.size(); ++prefix) {
        const JpegHuffman::Entry entry = dc.decode_short(prefix);
        if (entry.bits > 0 && entry.symbol <= 15) table[prefix] = with_ac(entry.bits + entry.symbol, 1, prefix, ac);
    }
    return table;
}

// Most pictures of a medium use the same few tables, and making one takes as long as decoding some KiB.
template <class Make>
JpegStrides remembered(const std::string& definition, Make make) {
    constexpr std::size_t kMax = 256;  // tables of 4 KiB
    thread_local std::map<std::string, JpegStrides> made;
    const auto found = made.find(definition);
    if (found != made.end()) return found->second;
    if (made.size() >= kMax) made.clear();
    return made.emplace(definition, make()).first->second;
}

}  // namespace

JpegStrides ac_strides(const JpegHuffman& ac) {
    return remembered(ac.definition(), [&] { return make_ac(ac); });
}

JpegStrides block_strides(const JpegHuffman& dc, const JpegHuffman& ac) {
    return remembered(dc.definition() + ac.definition(), [&] { return make_block(dc, ac); });
}

}  // namespace dredger::formats
