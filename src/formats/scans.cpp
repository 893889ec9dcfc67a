// Measurements and pictures of science and medicine: DICOM (PS3.5, PS3.10), FITS (its standard, 4.0), HDF5 ("HDF5 File
// Format Specification"), GRIB (WMO FM 92), arrays of NumPy (its "npy format" enhancement proposal), captures of
// network traffic (libpcap's savefile format, "PCAP Next Generation"), activities of sport watches (FIT protocol),
// matrices of MATLAB ("MAT-File Format").
#include <algorithm>
#include <boost/crc.hpp>

#include "base/checked.h"
#include "base/text.h"
#include "formats/bytes_of_content.h"
#include "formats/characters.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

// The elements of a data set, in the order of their tags.
class Dicom {
  public:
    explicit Dicom(Reader& content) : content_(content) {}

    Measured measure() {
        std::uint64_t at = 132;
        if (content_.u16le(at) != 2) return nonsense();
        std::string syntax;
        while (content_.holds(at, 8) && content_.u16le(at) == 2) {
            const Element element = element_at(at, true);
            if (!element.is_one) return nonsense();
            if (content_.u16le(at + 2) == 0x0010)
                syntax =
                    content_.text(element.value, static_cast<std::size_t>(std::min<std::uint64_t>(element.length, 64)));
            at = element.value + element.length;
        }
        while (!syntax.empty() && (syntax.back() == '\0' || syntax.back() == ' ')) syntax.pop_back();
        if (syntax == "1.2.840.10008.1.2.2" || syntax == "1.2.840.10008.1.2.1.99") return open_ended(at, Proof::length);
        const bool is_explicit = syntax != "1.2.840.10008.1.2";
        std::uint32_t before = 0x0002FFFF;
        bool has_pixels = false;
        while (content_.holds(at, 8)) {
            const std::uint32_t tag = std::uint32_t{content_.u16le(at)} << 16 | content_.u16le(at + 2);
            if (tag <= before || tag >> 16 == 0xFFFE) break;
            const Element element = element_at(at, is_explicit);
            if (!element.is_one) break;
            const auto end = element.is_open ? end_of_items(element.value, is_explicit, 0)
                                             : checked_add(element.value, element.length);
            if (!end) break;
            if (!content_.holds(0, *end)) return broken_between(at, content_.size(), "its end is missing", *end);
            has_pixels = has_pixels || tag == 0x7FE00010;
            before = tag;
            at = *end;
        }
        if (before == 0x0002FFFF) return nonsense();
        return has_pixels ? whole(at, Proof::chain) : open_ended(at, Proof::chain);
    }

  private:
    struct Element {
        bool is_one = false, is_open = false;
        std::uint64_t value = 0, length = 0;
    };

    Element element_at(std::uint64_t at, bool is_explicit) {
        if (!is_explicit) {
            const std::uint32_t length = content_.u32le(at + 4);
            return {true, length == 0xFFFFFFFF, at + 8, length};
        }
        const std::string kind = content_.text(at + 4, 2);
        constexpr std::string_view kShort = "AE AS AT CS DA DS DT FD FL IS LO LT PN SH SL SS ST TM UI UL US";
        constexpr std::string_view kLong = "OB OD OF OL OV OW SQ SV UC UN UR UT UV";
        if (kind.size() == 2 && kShort.find(kind) != std::string_view::npos)
            return {true, false, at + 8, content_.u16le(at + 6)};
        if (kind.size() != 2 || kLong.find(kind) == std::string_view::npos) return {};
        const std::uint32_t length = content_.u32le(at + 8);
        return {true, length == 0xFFFFFFFF, at + 12, length};
    }

    // Items up to the one that ends their sequence; within items elements, where the item has no length.
    std::optional<std::uint64_t> end_of_items(std::uint64_t at, bool is_explicit, int depth) {
        constexpr unsigned kMaxItems = 1'000'000;
        if (depth > 16) return std::nullopt;
        for (unsigned n = 0; n < kMaxItems && content_.holds(at, 8); ++n) {
            const std::uint32_t tag = std::uint32_t{content_.u16le(at)} << 16 | content_.u16le(at + 2);
            const std::uint32_t length = content_.u32le(at + 4);
            if (tag == 0xFFFEE0DD) return at + 8;
            if (tag != 0xFFFEE000) return std::nullopt;
            at += 8;
            if (length != 0xFFFFFFFF) {
                at += length;
                continue;
            }
            for (;;) {
                if (!content_.holds(at, 8)) return std::nullopt;
                if (content_.u16le(at) == 0xFFFE && content_.u16le(at + 2) == 0xE00D) break;
                const Element element = element_at(at, is_explicit);
                if (!element.is_one) return std::nullopt;
                const auto end = element.is_open ? end_of_items(element.value, is_explicit, depth + 1)
                                                 : checked_add(element.value, element.length);
                if (!end) return std::nullopt;
                at = *end;
            }
            at += 8;
        }
        return std::nullopt;
    }

    Reader& content_;
};

Measured measure_dicom(Reader& content) { return Dicom(content).measure(); }

Description describe_dicom(Reader& content, std::uint64_t length) {
    // The study's description is no patient's name.
    Description said;
    const auto at = content.find("\x08\0\x30\x10LO"sv, 132, std::min<std::uint64_t>(length, 16384));
    if (at) said.title = printable(content.text(*at + 8, std::min<std::size_t>(content.u16le(*at + 6), 64)));
    return said;
}

// The value of a card of a header, a number.
std::optional<std::uint64_t> fits_number(const std::string& card) {
    const std::size_t from = card.find_first_not_of(' ', 10);
    if (from == std::string::npos || card[8] != '=') return std::nullopt;
    const auto value = number_in(std::string_view(card).substr(from + (card[from] == '-' ? 1 : 0)));
    return value ? std::optional(std::min(*value, std::uint64_t{1} << 50)) : std::nullopt;
}

Measured measure_fits(Reader& content) {
    constexpr std::uint64_t kBlock = 2880, kCard = 80;
    std::uint64_t at = 0;
    for (unsigned units = 0;; ++units) {
        if (units > 0 && !content.has(at, "XTENSION=")) break;
        std::uint64_t bits = 0, axes = 0, extra = 0, groups = 1, product = 1;
        std::uint64_t p = at;
        for (unsigned n = 0;; ++n, p += kCard) {
            const std::string card = content.text(p, kCard);
            if (card.size() < kCard || n > 36 * 2000)
                return units == 0 ? nonsense() : broken(at, "a header has no end");
            if (card.starts_with("END     ")) break;
            const auto value = fits_number(card);
            if (!value) continue;
            if (card.starts_with("BITPIX  ")) bits = *value;
            if (card.starts_with("NAXIS   "))
                axes = *value;
            else if (card.starts_with("NAXIS"))
                product = checked_mul(product, *value).value_or(0);
            if (card.starts_with("PCOUNT  ")) extra = *value;
            if (card.starts_with("GCOUNT  ")) groups = *value;
        }
        p = (p + kCard - at + kBlock - 1) / kBlock * kBlock + at;
        const auto data = axes == 0 ? std::optional<std::uint64_t>(0)
                                    : checked_mul(checked_add(product, extra).value_or(0), bits / 8 * groups);
        if (!data || *data > std::uint64_t{1} << 44)
            return units == 0 ? nonsense() : broken(at, "a header makes no sense");
        at = p + (*data + kBlock - 1) / kBlock * kBlock;
        if (!content.holds(0, at)) return sized(content, at, Proof::length);
    }
    return whole(at, Proof::chain);
}

Measured measure_hdf5(Reader& content) {
    const unsigned version = content.u8(8);
    const unsigned offsets = content.u8(version < 2 ? 13 : 9);
    if (version > 3 || (offsets != 4 && offsets != 8)) return nonsense();
    const std::uint64_t at = version == 0 ? 24 : version == 1 ? 28 : 12;
    const std::uint64_t end = offsets == 8 ? content.u64le(at + 16) : content.u32le(at + 8);
    if (end < 48 || end > std::uint64_t{1} << 48) return nonsense();
    return sized(content, end, Proof::length);
}

Measured measure_grib(Reader& content) {
    std::uint64_t at = 0;
    while (content.has(at, "GRIB") && content.holds(at, 16)) {
        const unsigned edition = content.u8(at + 7);
        const std::uint64_t length = edition == 1 ? content.u24be(at + 4) : edition == 2 ? content.u64be(at + 8) : 0;
        if (length < 20) break;
        if (!content.holds(at, length))
            return broken_between(at, content.size(), "its end is missing",
                                  at + std::min(length, std::uint64_t{1} << 48));
        if (!content.has(at + length - 4, "7777")) return at == 0 ? nonsense() : broken(at, "a message has no end");
        at += length;
    }
    return at == 0 ? nonsense() : whole(at, Proof::chain);
}

Measured measure_npy(Reader& content) {
    const unsigned version = content.u8(6);
    const std::uint64_t head =
        version == 1 ? 10 + std::uint64_t{content.u16le(8)} : 12 + std::uint64_t{content.u32le(8)};
    if (version == 0 || version > 3 || head > 65536) return nonsense();
    const std::string words = content.text(0, static_cast<std::size_t>(head));
    const auto number_at = [&](std::size_t& at) {
        std::uint64_t value = 0;
        for (; at < words.size() && words[at] >= '0' && words[at] <= '9' && value < std::uint64_t{1} << 40; ++at)
            value = value * 10 + static_cast<unsigned>(words[at] - '0');
        return value;
    };
    std::size_t type = words.find("'descr': '"), shape = words.find("'shape': (");
    if (type == std::string::npos || shape == std::string::npos || words.size() < type + 13) return nonsense();
    type += 12;
    const bool is_wide = words[type - 1] == 'U';
    std::uint64_t bytes = number_at(type) * (is_wide ? 4 : 1);
    if (bytes == 0) return nonsense();
    for (shape += 10; shape < words.size() && words[shape] != ')'; ++shape)
        if (words[shape] >= '0' && words[shape] <= '9')
            bytes = checked_mul(bytes, number_at(shape)).value_or(~std::uint64_t{0} / 2);
    return sized(content, checked_add(head, bytes).value_or(~std::uint64_t{0}), Proof::length);
}

Measured measure_pcap(Reader& content) {
    const bool big = content.u8(0) == 0xA1;
    const auto u32 = [&](std::uint64_t at) { return std::uint64_t{big ? content.u32be(at) : content.u32le(at)}; };
    const std::uint64_t most = std::max<std::uint64_t>(u32(16), 65536);
    std::uint64_t at = 24, before = 0;
    if (u32(16) > 16 << 20) return nonsense();
    unsigned packets = 0;
    while (content.holds(at, 16)) {
        const std::uint64_t second = u32(at), size = u32(at + 8), length = u32(at + 12);
        constexpr std::uint64_t kDay = 86400;
        if (size == 0 || size > most || size > length || length > 16 << 20 || u32(at + 4) >= 1'000'000'000 ||
            (packets > 0 && (second + kDay < before || second > before + 30 * kDay)))
            break;
        if (!content.holds(at + 16, size)) return broken_between(at, content.size(), "its last packet is cut");
        before = second;
        at += 16 + size;
        ++packets;
    }
    return packets == 0 ? nonsense() : open_ended(at, Proof::chain);
}

Measured measure_pcapng(Reader& content) {
    const bool big = content.u32be(8) == 0x1A2B3C4D;
    const auto u32 = [&](std::uint64_t at) { return std::uint64_t{big ? content.u32be(at) : content.u32le(at)}; };
    if (!big && content.u32le(8) != 0x1A2B3C4D) return nonsense();
    std::uint64_t at = 0;
    unsigned blocks = 0;
    while (content.holds(at, 12)) {
        const std::uint64_t type = u32(at), size = u32(at + 4);
        if (size < 12 || size % 4 != 0 || type == 0 || size > 64 << 20) break;
        if (!content.holds(at, size)) return broken_between(at, content.size(), "its last block is cut");
        if (u32(at + size - 4) != size) break;
        at += size;
        ++blocks;
    }
    return blocks == 0 ? nonsense() : open_ended(at, Proof::chain);
}

Measured measure_fit(Reader& content) {
    const std::uint64_t head = content.u8(0), end = head + content.u32le(4);
    if ((head != 12 && head != 14) || end > 64 << 20) return nonsense();
    if (!content.holds(0, end + 2)) return sized(content, end + 2, Proof::length);
    boost::crc_16_type crc;
    each_span(content, 0, end,
              [&](std::span<const std::byte> bytes) { crc.process_bytes(bytes.data(), bytes.size()); });
    return crc.checksum() == content.u16le(end) ? whole(end + 2, Proof::checksums)
                                                : broken_between(head, end + 2, "its checksum is off", end + 2);
}

// A header, then elements, each with its type and length; a few bytes stand within the head of an element.
Measured measure_mat(Reader& content) {
    constexpr std::uint64_t kHeader = 128;
    const bool big = content.has(126, "MI");
    if (!big && !content.has(126, "IM")) return nonsense();
    const auto number = [&](std::uint64_t at) { return big ? content.u32be(at) : content.u32le(at); };
    std::uint64_t at = kHeader, end = 0;
    while (content.holds(at, 8)) {
        const std::uint64_t type = number(at), length = number(at + 4);
        if (type != 14 && type != 15) break;  // a matrix, or a packed one
        if (length == 0) break;
        at = end = at + 8 + length;
    }
    return end == 0 ? nonsense() : sized(content, end, Proof::chain);
}

}  // namespace

const std::vector<Format>& scans() {
    static const std::vector<Format> family = {
        {.name = "dicom",
         .kind = Kind::picture,
         .extensions = {"dcm", "dicom"},
         .signatures = {{{128, "DICM\2\0"sv}}},
         .measure = measure_dicom,
         .describe = describe_dicom,
         .ending = "its last element",
         .checked = "the chain of elements"},
        {.name = "fits",
         .kind = Kind::picture,
         .extensions = {"fits", "fts"},
         .signatures = {{{0, "SIMPLE  = "sv}}},
         .measure = measure_fits,
         .ending = "the data of its last header",
         .checked = "the chain of headers"},
        {.name = "mat",
         .kind = Kind::other,
         .extensions = {"mat"},
         .signatures = {{{0, "MATLAB 5.0 MAT-file"sv}}},
         .measure = measure_mat,
         .ending = "its last element",
         .checked = "the chain of elements"},
        {.name = "hdf5",
         .kind = Kind::database,
         .extensions = {"h5", "hdf5", "he5", "nc", "mat"},
         .signatures = {{{0, "\x89HDF\r\n\x1A\n"sv}}},
         .measure = measure_hdf5,
         .ending = "the size in its superblock",
         .checked = "the superblock"},
        {.name = "grib",
         .kind = Kind::database,
         .extensions = {"grb", "grib", "grb2", "grib2"},
         .signatures = {{{0, "GRIB"sv}}},
         .measure = measure_grib,
         .ending = "the end mark of its last message",
         .checked = "the chain of messages"},
        {.name = "npy",
         .kind = Kind::database,
         .extensions = {"npy"},
         .signatures = {{{0, "\x93NUMPY"sv}}},
         .measure = measure_npy,
         .ending = "its elements, of the shape that the header tells",
         .checked = "the header"},
        {.name = "pcap",
         .kind = Kind::other,
         .extensions = {"pcap", "cap"},
         .signatures = {{{0, "\xD4\xC3\xB2\xA1\2\0\4\0"sv}},
                        {{0, "\xA1\xB2\xC3\xD4\0\2\0\4"sv}},
                        {{0, "\x4D\x3C\xB2\xA1\2\0\4\0"sv}}},
         .measure = measure_pcap,
         .ending = "its last packet",
         .checked = "the chain of packets"},
        {.name = "pcapng",
         .kind = Kind::other,
         .extensions = {"pcapng"},
         .signatures = {{{0, "\x0A\x0D\x0D\x0A"sv}, {8, "\x4D\x3C\x2B\x1A"sv}},
                        {{0, "\x0A\x0D\x0D\x0A"sv}, {8, "\x1A\x2B\x3C\x4D"sv}}},
         .measure = measure_pcapng,
         .ending = "its last block",
         .checked = "both lengths of every block"},
        {.name = "activity",
         .kind = Kind::other,
         .extensions = {"fit"},
         .signatures = {{{8, ".FIT"sv}}},
         .measure = measure_fit,
         .ending = "the size in its header",
         .checked = "the checksum of all of it"},
    };
    return family;
}

}  // namespace dredger::formats
