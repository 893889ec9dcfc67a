// Keys and certificates: in their armour (RFC 7468, RFC 9580), as elements of ASN.1 (X.690) in stores (RFC 7292) and
// alone (RFC 5280), and as packets of OpenPGP (RFC 9580, 4).
#include <fmt/format.h>
#include <optional>

#include "formats/characters.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

// One or several blocks between lines of dashes.
Measured measure_armour(Reader& content) {
    const std::uint64_t limit = end_of_characters(content, 0);
    std::uint64_t at = 0;
    std::string_view format = "pem";
    if (content.has(0, "-----BEGIN PGP")) format = "pgp";
    while (content.has(at, "-----BEGIN ")) {
        const auto name_end = content.find("-----", at + 11, std::min(limit, at + 128));
        if (!name_end) return at == 0 ? nonsense() : whole(at, Proof::chain, format);
        const std::string last =
            fmt::format("-----END {}-----", content.text(at + 11, static_cast<std::size_t>(*name_end - at - 11)));
        const auto end = last.size() <= 64 ? content.find(last, at, limit) : std::nullopt;
        if (!end) return broken(limit, "its last line is missing", 0, format);
        at = behind_line_end(content, *end + last.size());
    }
    return whole(at, Proof::chain, format);
}

// Behind the element at `at` (X.690, 8.1), whose parts fill it; nothing: there is none.
std::optional<std::uint64_t> behind_element(Reader& content, std::uint64_t at, unsigned depth = 0) {
    constexpr unsigned kMaxDepth = 32, kConstructed = 0x20;
    const unsigned tag = content.u8(at), first = content.u8(at + 1);
    if (depth > kMaxDepth || (tag & 31U) == 31 || tag == 0 || !content.ok()) return std::nullopt;
    at += 2;
    if (first == 0x80) {
        // It ends where an empty one stands.
        if ((tag & kConstructed) == 0) return std::nullopt;
        while (content.ok() && content.u16be(at) != 0) {
            const auto behind = behind_element(content, at, depth + 1);
            if (!behind) return std::nullopt;
            at = *behind;
        }
        return at + 2;
    }
    std::uint64_t length = first;
    if (first > 0x80) {
        if (first > 0x84) return std::nullopt;
        length = 0;
        for (unsigned i = 0; i < first - 0x80; ++i) length = length << 8 | content.u8(at++);
    }
    const std::uint64_t end = at + length;
    if ((tag & kConstructed) == 0 || !content.holds(at, length)) return end;
    while (at < end) {
        const auto behind = behind_element(content, at, depth + 1);
        if (!behind || *behind > end) return std::nullopt;
        at = *behind;
    }
    return end;
}

Measured measure_element(Reader& content) {
    const auto end = behind_element(content, 0);
    return end ? sized(content, *end, Proof::chain) : nonsense();
}

// Behind the packet at `at`; nothing: there is none, or nothing tells where it ends.
std::optional<std::uint64_t> behind_packet(Reader& content, std::uint64_t at) {
    constexpr std::string_view kTags = "\1\2\3\4\5\6\7\x08\x09\x0A\x0B\x0C\x0D\x0E\x11\x12\x13"sv;
    if (!content.holds(at, 2)) return std::nullopt;
    const unsigned head = content.u8(at);
    const bool is_new = (head & 0x40U) != 0;
    const unsigned tag = is_new ? head & 63U : head >> 2 & 15U;
    if ((head & 0x80U) == 0 || kTags.find(static_cast<char>(tag)) == std::string_view::npos) return std::nullopt;
    std::uint64_t length = 0;
    ++at;
    if (is_new) {
        const unsigned first = content.u8(at++);
        if (first >= 224 && first < 255) return std::nullopt;  // in parts
        length = first < 192 ? first : first < 255 ? ((first - 192U) << 8) + content.u8(at) + 192U : content.u32be(at);
        at += first < 192 ? 0 : first < 255 ? 1 : 4;
    } else {
        switch (head & 3U) {
            case 0: length = content.u8(at); break;
            case 1: length = content.u16be(at); break;
            case 2: length = content.u32be(at); break;
            default: return std::nullopt;
        }
        at += std::uint64_t{1} << (head & 3U);
    }
    return content.holds(at, length) ? std::optional(at + length) : std::nullopt;
}

Measured measure_key_ring(Reader& content) {
    std::uint64_t at = 0;
    unsigned packets = 0;
    while (const auto behind = behind_packet(content, at)) at = *behind, ++packets;
    return packets < 3 ? nonsense() : whole(at, Proof::chain);
}

}  // namespace

const std::vector<Format>& keys() {
    static const std::vector<Format> family = {
        {.name = "pgpkeys",
         .kind = Kind::other,
         .extensions = {"gpg", "pkr", "skr"},
         .signatures = {{{0, "\x99\1"sv}, {3, "\4"sv}},
                        {{0, "\x99\2"sv}, {3, "\4"sv}},
                        {{0, "\x95\3"sv}, {3, "\4"sv}},
                        {{0, "\x95\7"sv}, {3, "\4"sv}},
                        {{0, "\x98"sv}, {2, "\4"sv}},
                        {{0, "\x94"sv}, {2, "\4"sv}}},
         .is_loose = true,
         .measure = measure_key_ring,
         .ending = "its last packet",
         .checked = "the chain of packets"},
        {.name = "pem",
         .kind = Kind::other,
         .extensions = {"pem", "crt", "cer", "csr"},
         .signatures = {{{0, "-----BEGIN "sv}}},
         .is_loose = true,
         .measure = measure_armour,
         .ending = "the last line of its last block",
         .checked = "that every block ends"},
        {.name = "pgp",
         .kind = Kind::other,
         .extensions = {"asc", "pgp", "gpg"},
         .signatures = {{{0, "-----BEGIN PGP"sv}}},
         .told_by = "pem"},
        {.name = "pfx",
         .kind = Kind::other,
         .extensions = {"pfx", "p12"},
         .signatures = {{{0, "\x30\x82"sv}, {4, "\2\1\3\x30"sv}}, {{0, "\x30\x80\2\1\3\x30"sv}}},
         .measure = measure_element,
         .ending = "the length of its sequence, or the mark that ends it",
         .checked = "that its elements fill it"},
        {.name = "der",
         .kind = Kind::other,
         .extensions = {"der", "cer", "crt"},
         .signatures = {{{0, "\x30\x82"sv}, {4, "\x30\x82"sv}, {8, "\xA0\3\2\1"sv}},
                        {{0, "\x30\x82"sv}, {4, "\2\1\0\2\x82"sv}},
                        {{0, "\x30\x82"sv}, {4, "\2\1\0\x30\x0D\6\x09"sv}},
                        {{0, "\x30\x82"sv}, {4, "\6\x09\x2A\x86\x48\x86\xF7\x0D\1\7"sv}}},
         .measure = measure_element,
         .ending = "the length of its sequence",
         .checked = "that its elements fill it"},
    };
    return family;
}

}  // namespace dredger::formats
