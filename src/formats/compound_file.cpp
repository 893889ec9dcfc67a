#include "formats/compound_file.h"

#include <algorithm>

#include "base/text.h"

namespace dredger::formats {
namespace {

constexpr std::uint32_t kEndOfChain = 0xFFFFFFFE;
constexpr std::size_t kMostSectors = 1 << 20;  // of a chain
constexpr std::size_t kEntry = 128;            // bytes, of the directory
constexpr std::uint64_t kSmallSector = 64;     // bytes
constexpr std::uint32_t kSmallest = 4096;      // bytes; smaller streams are kept in the one of the root
enum EntryType : std::uint8_t { kStream = 2, kRoot = 5 };

}  // namespace

CompoundFile::CompoundFile(Reader& content) : content_(content) {
    const unsigned shift = content_.u16le(30), small_shift = content_.u16le(32);
    if (!content_.has(0, kMark) || (shift != 9 && shift != 12) || small_shift != 6) return;
    sector_ = std::uint64_t{1} << shift;
    read_table();
    const std::string directory = bytes_of(chain(content_.u32le(48), kMostStream), kMostStream);
    for (std::size_t at = 0; at + kEntry <= directory.size(); at += kEntry) {
        const ByteView entry(std::as_bytes(std::span(directory)).subspan(at, kEntry));
        const std::size_t length = *entry.u16le(64);
        const std::uint8_t type = *entry.u8(66);
        if (length < 2 || length > 64 || (type != kStream && type != kRoot)) continue;
        const Stream stream{*entry.u32le(116), *entry.u32le(120)};
        if (type == kRoot)
            root_ = stream;
        else
            streams_.emplace(utf16le_to_utf8(entry.bytes().first(length - 2)), stream);
    }
}

std::string CompoundFile::stream(const std::string& name, std::size_t most) const {
    const auto found = streams_.find(name);
    if (found == streams_.end()) return {};
    const Stream& stream = found->second;
    most = std::min<std::size_t>({most, stream.size, kMostStream});
    return stream.size < kSmallest ? small_stream(stream, most) : bytes_of(chain(stream.first, most), most);
}

std::string CompoundFile::message_property(const std::string& tag, std::size_t most) const {
    const std::string name = "__substg1.0_" + tag;
    const std::string wide = stream(name + "001F", most);
    if (!wide.empty()) return utf16le_to_utf8(view_of(wide).bytes());
    return code_page_to_utf8(view_of(stream(name + "001E", most)).bytes(), CodePage::windows1252);
}

std::string CompoundFile::small_stream(const Stream& stream, std::size_t most) const {
    const Sectors holder = chain(root_.first, root_.size);
    const Sectors tables = chain(content_.u32le(60), std::uint64_t{root_.size} / kSmallSector * 4 + 4);
    const auto place_in = [&](const Sectors& sectors, std::uint64_t at) -> std::optional<std::uint64_t> {
        if (at / sector_ >= sectors.size()) return std::nullopt;
        return place_of(sectors[static_cast<std::size_t>(at / sector_)]) + at % sector_;
    };
    std::string bytes;
    std::uint32_t sector = stream.first;
    while (bytes.size() < most) {
        const auto place = place_in(holder, sector * kSmallSector), next = place_in(tables, std::uint64_t{sector} * 4);
        if (!place || !next) break;
        bytes += content_.text(*place, static_cast<std::size_t>(kSmallSector));
        sector = content_.u32le(*next);
    }
    bytes.resize(std::min(bytes.size(), most));
    return bytes;
}

void CompoundFile::read_table() {
    const std::size_t count =
        std::min<std::size_t>(content_.u32le(44), static_cast<std::size_t>(kMostSectors * 4 / sector_));
    Sectors sectors;
    for (unsigned i = 0; i < 109 && sectors.size() < count; ++i)
        sectors.push_back(content_.u32le(76 + 4 * std::uint64_t{i}));
    std::uint32_t more = content_.u32le(68);
    for (std::size_t n = 0; sectors.size() < count && n < count && content_.holds(place_of(more), sector_); ++n) {
        for (std::uint64_t i = 0; i + 1 < sector_ / 4 && sectors.size() < count; ++i)
            sectors.push_back(content_.u32le(place_of(more) + 4 * i));
        more = content_.u32le(place_of(more) + sector_ - 4);
    }
    for (const std::uint32_t sector : sectors)
        for (std::uint64_t i = 0; i < sector_ / 4; ++i)
            next_.push_back(content_.holds(place_of(sector), sector_) ? content_.u32le(place_of(sector) + 4 * i)
                                                                      : kEndOfChain);
}

CompoundFile::Sectors CompoundFile::chain(std::uint32_t first, std::uint64_t bytes) const {
    Sectors sectors;
    const std::size_t most =
        static_cast<std::size_t>(std::min<std::uint64_t>(kMostSectors, (bytes + sector_ - 1) / sector_));
    for (std::uint32_t sector = first; sectors.size() < most; sector = next_[sector]) {
        if (sector >= next_.size() || !content_.holds(place_of(sector), 1)) break;
        sectors.push_back(sector);
    }
    return sectors;
}

std::string CompoundFile::bytes_of(const Sectors& sectors, std::size_t most) const {
    std::string bytes;
    for (const std::uint32_t sector : sectors) {
        if (bytes.size() >= most) break;
        bytes += content_.text(place_of(sector), static_cast<std::size_t>(sector_));
    }
    bytes.resize(std::min(bytes.size(), most));
    return bytes;
}

}  // namespace dredger::formats
