#include "repairing/picture/jpeg_header.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;
using formats::JpegHuffman;

constexpr std::uint8_t kFirstHeader = 0xC0, kDefineHuffman = 0xC4, kDefineQuantization = 0xDB, kStartOfScan = 0xDA,
                       kRestartInterval = 0xDD;

bool is_frame(unsigned marker) { return marker >= kFirstHeader && marker <= 0xC2; }
bool is_foreign(unsigned marker) { return (marker >= 0xE0 && marker <= 0xEF) || marker == 0xFE; }

class Walk {
  public:
    explicit Walk(Reader& content) : content_(content) {}

    JpegHeader run() {
        std::uint64_t at = 0;
        if (content_.has(0, "\xFF\xD8"))
            at = 2;
        else
            damaged("its first bytes were lost");
        while (content_.holds(at, 4)) {
            if (const auto next = segment_at(at)) {
                if (*next == 0) return finished();
                at = *next;
                continue;
            }
            damaged("something foreign stood between its segments");
            // What fits byte for byte goes on; the picture data itself holds no marker that does.
            std::uint64_t found = at + 1;
            while (content_.holds(found, 4) && !(content_.u8(found) == 0xFF && segment_at(found, true))) {
                const auto next = content_.find("\xFF"sv, found + 1, content_.size());
                found = next.value_or(content_.size());
            }
            at = found;
        }
        return finished();
    }

  private:
    JpegHeader finished() { return std::move(header_); }

    void damaged(std::string_view what) {
        if (header_.damage.empty() || header_.damage.back() != what) header_.damage.emplace_back(what);
    }

    // Behind a segment that makes sense, 0 where that is the picture data; none where there is no such segment. With
    // `only_look` nothing is taken of it.
    std::optional<std::uint64_t> segment_at(std::uint64_t at, bool only_look = false) {
        if (content_.u8(at) != 0xFF) return std::nullopt;
        const unsigned marker = content_.u8(at + 1);
        if (marker == 0xFF && !only_look) return at + 1;
        if (marker == 0xD8 && !only_look) return at + 2;
        const std::uint64_t length = content_.u16be(at + 2);
        const std::uint64_t inside = at + 4;
        if (length < 2 || !content_.holds(at, 2 + length)) return std::nullopt;
        JpegHeader before;
        if (only_look) before = header_;
        bool fits = false;
        if (marker == kDefineHuffman) {
            fits = huffman(inside, length - 2);
        } else if (marker == kDefineQuantization) {
            fits = quantization(inside, length - 2);
        } else if (marker == kRestartInterval) {
            fits = length == 4;
            if (fits) header_.restart_interval = content_.u16be(inside);
        } else if (marker == kStartOfScan) {
            fits = scan(inside, length - 2);
            if (fits) header_.scan_at = at;
            if (fits) header_.data_at = at + 2 + length;
        } else if (is_frame(marker)) {
            fits = frame(static_cast<std::uint8_t>(marker), inside, length - 2);
        } else if (is_foreign(marker)) {
            fits = !only_look || content_.has(inside, "Exif\0\0"sv) || content_.has(inside, "JFIF\0"sv) ||
                   content_.has(inside, "http://ns.adobe"sv) || content_.has(inside, "ICC_PROFILE\0"sv);
            if (fits && !only_look) foreign(static_cast<std::uint8_t>(marker), inside, length - 2);
        }
        if (only_look) header_ = std::move(before);
        if (!fits) return std::nullopt;
        if (!only_look) header_.end = at + 2 + length;
        return marker == kStartOfScan ? 0 : at + 2 + length;
    }

    void foreign(std::uint8_t marker, std::uint64_t at, std::uint64_t length) {
        header_.foreign.push_back({marker, at, length});
        if (!content_.has(at, "Exif\0\0"sv)) return;
        const auto start = content_.find("\xFF\xD8\xFF"sv, at, at + length);
        const auto end = content_.find_last("\xFF\xD9"sv, at, at + length);
        if (start && end && *end > *start) header_.thumbnail = Extent{*start, *end + 2 - *start};
    }

    bool huffman(std::uint64_t at, std::uint64_t length) {
        for (const std::uint64_t end = at + length; at < end;) {
            if (end - at < 17) return false;
            const unsigned which = content_.u8(at);
            std::array<std::uint8_t, 16> counts{};
            std::size_t total = 0;
            for (unsigned i = 0; i < 16; ++i) total += counts[i] = content_.u8(at + 1 + i);
            if ((which & 0xECU) != 0 || total == 0 || total > 256 || end - at < 17 + total) return false;
            std::vector<std::uint8_t> symbols(total);
            for (std::size_t i = 0; i < total; ++i) symbols[i] = content_.u8(at + 17 + i);
            JpegHuffman table;
            if (!table.define(counts, symbols)) return false;
            (which >> 4 == 0 ? header_.dc : header_.ac)[which & 3U] = std::move(table);
            at += 17 + total;
        }
        return true;
    }

    bool quantization(std::uint64_t at, std::uint64_t length) {
        for (const std::uint64_t end = at + length; at < end;) {
            const unsigned which = content_.u8(at);
            const unsigned bytes = which >> 4 == 0 ? 1 : 2;
            if ((which & 0xECU) != 0 || end - at < 1 + 64 * bytes) return false;
            JpegHeader::Quantization table{};
            for (unsigned i = 0; i < 64; ++i)
                table[i] = bytes == 1 ? content_.u8(at + 1 + i) : content_.u16be(at + 1 + 2 * std::uint64_t{i});
            if (std::find(table.begin(), table.end(), 0) != table.end()) return false;
            header_.quantization[which & 3U] = table;
            at += 1 + 64 * bytes;
        }
        return true;
    }

    bool frame(std::uint8_t marker, std::uint64_t at, std::uint64_t length) {
        JpegFrame found;
        found.marker = marker;
        found.precision = content_.u8(at);
        found.height = content_.u16be(at + 1);
        found.width = content_.u16be(at + 3);
        const unsigned count = content_.u8(at + 5);
        if (found.precision != 8 || found.width == 0 || count == 0 || count > 4 || length != 6 + 3 * count)
            return false;
        for (unsigned i = 0; i < count; ++i) {
            const unsigned sampling = content_.u8(at + 7 + 3 * std::uint64_t{i});
            JpegFrame::Component component{content_.u8(at + 6 + 3 * std::uint64_t{i}), sampling >> 4, sampling & 15U,
                                           content_.u8(at + 8 + 3 * std::uint64_t{i})};
            if (component.across < 1 || component.across > 4 || component.down < 1 || component.down > 4 ||
                component.quantization > 3)
                return false;
            found.components.push_back(component);
        }
        header_.frame = std::move(found);
        return true;
    }

    bool scan(std::uint64_t at, std::uint64_t length) {
        JpegScan found;
        const unsigned count = content_.u8(at);
        if (count == 0 || count > 4 || length != 4 + 2 * count) return false;
        for (unsigned i = 0; i < count; ++i) {
            const unsigned tables = content_.u8(at + 2 + 2 * std::uint64_t{i});
            if ((tables & 0xCCU) != 0) return false;
            found.components.push_back({content_.u8(at + 1 + 2 * std::uint64_t{i}), tables >> 4, tables & 3U});
        }
        header_.scan = std::move(found);
        return true;
    }

    Reader& content_;
    JpegHeader header_;
};

constexpr std::array<std::uint8_t, 16> kDcCounts[2] = {{0, 1, 5, 1, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0, 0, 0},
                                                       {0, 3, 1, 1, 1, 1, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0}};
constexpr std::array<std::uint8_t, 16> kAcCounts[2] = {{0, 2, 1, 3, 3, 2, 4, 3, 5, 5, 4, 4, 0, 0, 1, 0x7D},
                                                       {0, 2, 1, 2, 4, 4, 3, 4, 7, 5, 4, 4, 0, 1, 2, 0x77}};
constexpr std::string_view kAcSymbols[2] = {
    "\x01\x02\x03\x00\x04\x11\x05\x12\x21\x31\x41\x06\x13\x51\x61\x07\x22\x71\x14\x32\x81\x91\xA1\x08\x23\x42\xB1\xC1"
    "\x15\x52\xD1\xF0\x24\x33\x62\x72\x82\x09\x0A\x16\x17\x18\x19\x1A\x25\x26\x27\x28\x29\x2A\x34\x35\x36\x37\x38\x39"
    "\x3A\x43\x44\x45\x46\x47\x48\x49\x4A\x53\x54\x55\x56\x57\x58\x59\x5A\x63\x64\x65\x66\x67\x68\x69\x6A\x73\x74\x75"
    "\x76\x77\x78\x79\x7A\x83\x84\x85\x86\x87\x88\x89\x8A\x92\x93\x94\x95\x96\x97\x98\x99\x9A\xA2\xA3\xA4\xA5\xA6\xA7"
    "\xA8\xA9\xAA\xB2\xB3\xB4\xB5\xB6\xB7\xB8\xB9\xBA\xC2\xC3\xC4\xC5\xC6\xC7\xC8\xC9\xCA\xD2\xD3\xD4\xD5\xD6\xD7\xD8"
    "\xD9\xDA\xE1\xE2\xE3\xE4\xE5\xE6\xE7\xE8\xE9\xEA\xF1\xF2\xF3\xF4\xF5\xF6\xF7\xF8\xF9\xFA"sv,
    "\x00\x01\x02\x03\x11\x04\x05\x21\x31\x06\x12\x41\x51\x07\x61\x71\x13\x22\x32\x81\x08\x14\x42\x91\xA1\xB1\xC1\x09"
    "\x23\x33\x52\xF0\x15\x62\x72\xD1\x0A\x16\x24\x34\xE1\x25\xF1\x17\x18\x19\x1A\x26\x27\x28\x29\x2A\x35\x36\x37\x38"
    "\x39\x3A\x43\x44\x45\x46\x47\x48\x49\x4A\x53\x54\x55\x56\x57\x58\x59\x5A\x63\x64\x65\x66\x67\x68\x69\x6A\x73\x74"
    "\x75\x76\x77\x78\x79\x7A\x82\x83\x84\x85\x86\x87\x88\x89\x8A\x92\x93\x94\x95\x96\x97\x98\x99\x9A\xA2\xA3\xA4\xA5"
    "\xA6\xA7\xA8\xA9\xAA\xB2\xB3\xB4\xB5\xB6\xB7\xB8\xB9\xBA\xC2\xC3\xC4\xC5\xC6\xC7\xC8\xC9\xCA\xD2\xD3\xD4\xD5\xD6"
    "\xD7\xD8\xD9\xDA\xE2\xE3\xE4\xE5\xE6\xE7\xE8\xE9\xEA\xF2\xF3\xF4\xF5\xF6\xF7\xF8\xF9\xFA"sv};
// In zigzag order.
constexpr std::uint8_t kQuantization[2][64] = {
    {16, 11,  12, 14, 12, 10, 16,  14,  13,  14, 18, 17,  16,  19,  24,  40,  26, 24,  22,  22, 24, 49,
     35, 37,  29, 40, 58, 51, 61,  60,  57,  51, 56, 55,  64,  72,  92,  78,  64, 68,  87,  69, 55, 56,
     80, 109, 81, 87, 95, 98, 103, 104, 103, 62, 77, 113, 121, 112, 100, 120, 92, 101, 103, 99},
    {17, 18, 18, 24, 21, 24, 47, 26, 26, 47, 99, 66, 56, 66, 99, 99, 99, 99, 99, 99, 99, 99,
     99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99,
     99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99}};

}  // namespace

unsigned JpegFrame::most_across() const {
    unsigned most = 1;
    for (const Component& component : components) most = std::max(most, component.across);
    return most;
}

unsigned JpegFrame::most_down() const {
    unsigned most = 1;
    for (const Component& component : components) most = std::max(most, component.down);
    return most;
}

// A single component is not interleaved: its MCU is one block, whatever its factors say (A.2.2).
std::size_t JpegFrame::mcus_across() const {
    const std::size_t pixels = components.size() == 1 ? 8 : 8 * std::size_t{most_across()};
    return (width + pixels - 1) / pixels;
}

std::size_t JpegFrame::mcus_down() const {
    const std::size_t pixels = components.size() == 1 ? 8 : 8 * std::size_t{most_down()};
    return (height + pixels - 1) / pixels;
}

bool JpegHeader::has_tables() const {
    if (!frame || !scan) return false;
    const bool has_codes = std::all_of(scan->components.begin(), scan->components.end(),
                                       [&](const auto& component) { return dc[component.dc] && ac[component.ac]; });
    return has_codes && std::all_of(frame->components.begin(), frame->components.end(), [&](const auto& component) {
               return quantization[component.quantization].has_value();
           });
}

JpegHeader read_jpeg_header(Reader& content) { return Walk(content).run(); }

void add_usual_huffman_tables(JpegHeader& header) {
    for (std::size_t i = 0; i < 2; ++i) {
        if (!header.dc[i]) {
            std::vector<std::uint8_t> symbols(12);
            for (std::uint8_t s = 0; s < 12; ++s) symbols[s] = s;
            header.dc[i].emplace().define(kDcCounts[i], symbols);
        }
        if (!header.ac[i]) header.ac[i].emplace().define(kAcCounts[i], {kAcSymbols[i].begin(), kAcSymbols[i].end()});
    }
}

void add_usual_quantization(JpegHeader& header, float scale) {
    for (std::size_t i = 0; i < 2; ++i) {
        if (header.quantization[i]) continue;
        JpegHeader::Quantization& table = header.quantization[i].emplace();
        for (std::size_t k = 0; k < 64; ++k)
            table[k] = static_cast<std::uint16_t>(std::clamp(std::lround(scale * kQuantization[i][k]), 1L, 255L));
    }
}

}  // namespace dredger::repairing
