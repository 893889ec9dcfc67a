#include "carving/nominator.h"

#include <algorithm>

namespace dredger {
namespace {

constexpr std::size_t kMaxReach = 64 << 10;
constexpr std::size_t kBlankStart = 16;
constexpr unsigned kOpens = 8;      // bits from which on text shows that it opens an element or a list
constexpr unsigned kOwnStart = 20;  // that it begins here

bool is_text(unsigned c) { return c >= 0x20 ? c != 0x7F : c == '\t' || c == '\r' || c == '\n'; }

// A quick look: characters, or the mark of UTF-16.
bool could_be_text(std::span<const std::byte> start) {
    if ((start[0] == std::byte{0xFF} && start[1] == std::byte{0xFE}) ||
        (start[0] == std::byte{0xFE} && start[1] == std::byte{0xFF}))
        return true;
    return std::all_of(start.begin(), start.begin() + 16,
                       [](std::byte b) { return is_text(std::to_integer<unsigned>(b)); });
}

bool is_lower(unsigned c) { return c >= 'a' && c <= 'z'; }
bool is_upper(unsigned c) { return c >= 'A' && c <= 'Z'; }

// Whether a line that ends with `last` hardly goes on with what begins `start`: a remark, a rule, a sentence.
bool is_seam(unsigned last, std::span<const std::byte> start) {
    const auto at = [&](std::size_t i) { return std::to_integer<unsigned>(start[i]); };
    if (!is_lower(last) && !is_upper(last) && !(last >= '0' && last <= '9') && last != ',') return false;
    if (at(0) == '#' || (at(0) == '/' && (at(1) == '*' || at(1) == '/'))) return true;
    if ((at(0) == '=' || at(0) == '-' || at(0) == '*') && at(1) == at(0) && at(2) == at(0) && at(3) == at(0))
        return true;
    if (!is_lower(last) || !is_upper(at(0))) return false;
    std::size_t word = 1;
    while (word < 12 && is_lower(at(word))) ++word;
    return word > 1 && at(word) == ' ';
}

// Whether text that begins here may be the rest of what stands before it.
bool goes_on(ByteView before, std::span<const std::byte> start) {
    const auto last = before.bytes().last(std::min<std::size_t>(before.size(), 16));
    return !last.empty() &&
           std::all_of(last.begin(), last.end(), [](std::byte b) { return is_text(std::to_integer<unsigned>(b)); }) &&
           !is_seam(std::to_integer<unsigned>(last.back()), start);
}

}  // namespace

bool Wanted::takes(const Format& format) const {
    return (kinds.empty() || kinds.contains(format.kind)) &&
           (formats.empty() || std::find(formats.begin(), formats.end(), format.name) != formats.end());
}

Nominator::Nominator(const Wanted& wanted, const std::vector<const Format*>& further) : lists_(1) {
    std::set<const Format*> tellers;
    for (const Format* format : all_formats()) {
        if (!wanted.takes(*format)) continue;
        const Format* teller = measurer_of(*format);
        if (teller != nullptr && tellers.insert(teller).second) add(*teller);
    }
    for (const Format* format : further) add(*format);
}

void Nominator::add(const Format& format) {
    if (format.signatures.empty()) {
        texts_.push_back(&format);
        return;
    }
    for (const auto& group : format.signatures) {
        // The longest of its signatures tells most, and one byte tells too little.
        const auto best = std::max_element(group.begin(), group.end(), [](const Signature& a, const Signature& b) {
            return a.bytes.size() < b.bytes.size();
        });
        for (const Signature& s : group) reach_ = std::min(kMaxReach, std::max(reach_, s.offset + s.bytes.size()));
        auto known =
            std::find_if(anchors_.begin(), anchors_.end(), [&](const auto& a) { return a->offset == best->offset; });
        if (known == anchors_.end()) {
            known = anchors_.insert(anchors_.end(), std::make_unique<Anchor>());
            (*known)->offset = best->offset;
        }
        Anchor& anchor = **known;
        const auto byte = [&](std::size_t i) { return static_cast<std::uint8_t>(best->bytes[i]); };
        if (best->bytes.size() > 1) {
            add_to(anchor, static_cast<std::uint16_t>(byte(0) | byte(1) << 8), format);
        } else {
            for (unsigned second = 0; second < 256; ++second)
                add_to(anchor, static_cast<std::uint16_t>(byte(0) | second << 8), format);
        }
    }
}

void Nominator::add_to(Anchor& anchor, std::uint16_t key, const Format& format) {
    std::vector<const Format*> list = lists_[anchor.list_of[key]];
    if (std::find(list.begin(), list.end(), &format) != list.end()) return;
    list.push_back(&format);
    auto same = std::find(lists_.begin(), lists_.end(), list);
    if (same == lists_.end()) same = lists_.insert(lists_.end(), list);
    anchor.list_of[key] = static_cast<std::uint16_t>(same - lists_.begin());
    anchor.known.set(key);
}

void Nominator::nominate(ByteView head, ByteView before, std::vector<Bid>& bids) const {
    bids.clear();
    const auto bytes = head.bytes();
    const auto byte = [&](std::size_t i) { return std::to_integer<unsigned>(bytes[i]); };
    const auto consider = [&](const Format* format) {
        if (std::any_of(bids.begin(), bids.end(), [&](const Bid& b) { return b.format == format; })) return;
        if (const unsigned bits = bid_of(*format, head); bits > 0) bids.push_back({format, bits});
    };
    // No format begins with so many zeros, but for what shows itself further on.
    const bool is_blank = bytes.size() >= kBlankStart && std::all_of(bytes.begin(), bytes.begin() + kBlankStart,
                                                                     [](std::byte b) { return b == std::byte{0}; });
    for (const auto& anchor : anchors_) {
        if (is_blank && anchor->offset < kBlankStart) continue;
        if (anchor->offset + 2 > bytes.size()) continue;
        const unsigned key = byte(anchor->offset) | byte(anchor->offset + 1) << 8;
        if (!anchor->known[key]) continue;
        const auto& list = lists_[anchor->list_of[key]];
        std::for_each(list.begin(), list.end(), consider);
    }
    if (bytes.size() >= 16 && !texts_.empty() && could_be_text(bytes)) {
        std::for_each(texts_.begin(), texts_.end(), consider);
        // Plain text that only goes on here began elsewhere; what opens something may be closed again.
        if (goes_on(before, bytes)) {
            std::erase_if(bids, [](const Bid& bid) { return bid.bits < kOpens && bid.format->is_text; });
            for (Bid& bid : bids) bid.goes_on = bid.bits < kOwnStart && bid.format->is_text;
        }
    }
    std::stable_sort(bids.begin(), bids.end(), [](const Bid& a, const Bid& b) { return a.bits > b.bits; });
}

}  // namespace dredger
