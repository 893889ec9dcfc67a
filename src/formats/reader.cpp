#include "formats/reader.h"

#include <algorithm>
#include <cstring>

namespace dredger {
namespace {

std::string_view as_text(std::span<const std::byte> bytes) {
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

// Where `bytes` stand first within `here`. By their first byte: what is looked for mostly begins with one that is rare.
std::optional<std::size_t> first_of(std::string_view bytes, std::span<const std::byte> here) {
    for (std::size_t at = 0; at + bytes.size() <= here.size(); ++at) {
        const void* first = std::memchr(here.data() + at, bytes.front(), here.size() - bytes.size() - at + 1);
        if (first == nullptr) return std::nullopt;
        at = static_cast<std::size_t>(static_cast<const std::byte*>(first) - here.data());
        if (std::memcmp(first, bytes.data(), bytes.size()) == 0) return at;
    }
    return std::nullopt;
}

}  // namespace

std::vector<Reader::Room::Bytes>& Reader::Room::spare() {
    thread_local std::vector<Bytes> rooms;
    return rooms;
}

Reader::Room::~Room() {
    constexpr std::size_t kMax = 16;
    if (bytes_ && spare().size() < kMax) spare().push_back(std::move(bytes_));
}

std::byte* Reader::Room::bytes() {
    if (!bytes_ && !spare().empty()) {
        bytes_ = std::move(spare().back());
        spare().pop_back();
    }
    if (!bytes_) bytes_ = std::make_unique_for_overwrite<std::byte[]>(kWindow);
    return bytes_.get();
}

Reader::Reader(const Medium& medium, Budget& budget, std::uint64_t from)
    : medium_(medium),
      budget_(budget),
      from_(std::min(from, medium.size())),
      // Places within content stay far from overflow, whatever a medium claims.
      size_(std::min(medium.size() - from_, std::uint64_t{1} << 56)) {}

const Reader::Window& Reader::window(std::uint64_t at) {
    // Nothing stands here: an empty window that begins at this place.
    static thread_local Window nothing;
    const auto covers = [&](const Window& w) { return at >= w.at && at - w.at < w.bytes.size(); };
    if (covers(windows_[last_])) return windows_[last_];
    for (std::size_t i = 0; i < windows_.size(); ++i) {
        if (!covers(windows_[i])) continue;
        last_ = i;
        windows_[i].used = ++clock_;
        return windows_[i];
    }
    nothing.at = at;
    if (at >= size_) return nothing;
    const auto oldest = std::min_element(windows_.begin(), windows_.end(),
                                         [](const Window& a, const Window& b) { return a.used < b.used; });
    // A small first read: most of what a signature nominates is nonsense, and that shows at once.
    const std::uint64_t unit = fetched_ == 0 ? 4096 : kWindow;
    const std::uint64_t start = at - at % unit;
    const auto length = static_cast<std::size_t>(std::min<std::uint64_t>(unit, size_ - start));
    if (!budget_.spend_bytes(length, start + length)) return nothing;
    oldest->at = start;
    oldest->used = ++clock_;
    oldest->bytes = {oldest->room.bytes(), length};
    oldest->bad.clear();
    std::vector<Extent> bad;
    if (!medium_.read(from_ + start, oldest->bytes, &bad)) bad = {{from_ + start, length}};
    for (const Extent& area : bad) {
        const std::uint64_t first = std::max(area.offset, from_ + start) - from_ - start;
        const std::uint64_t end = std::min<std::uint64_t>(area.end() - from_ - start, length);
        oldest->bad.push_back({first, end - std::min(first, end)});
    }
    fetched_ += length;
    last_ = static_cast<std::size_t>(oldest - windows_.begin());
    return *oldest;
}

void Reader::fail(Trouble trouble, std::uint64_t at) {
    if (trouble_ != Trouble::none) return;
    trouble_ = trouble;
    trouble_at_ = at;
}

std::uint8_t Reader::byte_at(std::uint64_t at) {
    const Window& from = window(at);
    if (from.bytes.empty()) {
        fail(Trouble::past_end, at);
        return 0;
    }
    const std::uint64_t skip = at - from.at;
    for (const Extent& bad : from.bad)
        if (skip >= bad.offset && skip < bad.end()) fail(Trouble::unreadable, at);
    return std::to_integer<std::uint8_t>(from.bytes[static_cast<std::size_t>(skip)]);
}

bool Reader::has(std::uint64_t at, std::string_view bytes) {
    if (!holds(at, bytes.size())) return false;
    const auto here = some(at);
    if (here.size() >= bytes.size()) return std::memcmp(here.data(), bytes.data(), bytes.size()) == 0;
    return text(at, bytes.size()) == bytes;
}

std::span<const std::byte> Reader::some(std::uint64_t at) {
    if (!budget_.spend_step()) return {};
    const Window& from = window(at);
    if (from.bytes.empty()) return {};
    const std::uint64_t skip = at - from.at;
    std::uint64_t end = from.bytes.size();
    for (const Extent& bad : from.bad) {
        if (skip >= bad.offset && skip < bad.end()) {
            fail(Trouble::unreadable, at);
            return {};
        }
        if (bad.offset > skip) end = std::min(end, bad.offset);
    }
    return std::span<const std::byte>(from.bytes)
        .subspan(static_cast<std::size_t>(skip), static_cast<std::size_t>(end - skip));
}

std::string Reader::text(std::uint64_t at, std::size_t length) {
    std::string out;
    length = std::min(length, kMaxText);
    while (out.size() < length) {
        const auto here = some(at + out.size());
        if (here.empty()) break;
        out.append(as_text(here.first(std::min(here.size(), length - out.size()))));
    }
    return out;
}

std::optional<std::uint64_t> Reader::find(std::string_view bytes, std::uint64_t from, std::uint64_t to) {
    to = std::min(to, size_);
    std::string seam;  // the last bytes of the window before
    while (from < to) {
        auto here = some(from);
        if (here.empty()) return std::nullopt;
        here = here.first(static_cast<std::size_t>(std::min<std::uint64_t>(here.size(), to - from)));
        if (!seam.empty()) {
            const std::size_t before = seam.size();
            const std::string joint = seam + std::string(as_text(here.first(std::min(here.size(), bytes.size() - 1))));
            if (const auto found = joint.find(bytes); found != std::string::npos) return from - before + found;
        }
        if (const auto found = first_of(bytes, here)) return from + *found;
        // Windows can be shorter than what is looked for, so the seam grows over several of them.
        seam.append(as_text(here));
        if (seam.size() >= bytes.size()) seam.erase(0, seam.size() - (bytes.size() - 1));
        from += here.size();
    }
    return std::nullopt;
}

std::optional<std::uint64_t> Reader::find_last(std::string_view bytes, std::uint64_t from, std::uint64_t to) {
    to = std::min(to, size_);
    while (to > from && to - from >= bytes.size()) {
        const std::uint64_t start = to - from > kWindow ? to - kWindow : from;
        const std::string piece = text(start, static_cast<std::size_t>(to - start));
        if (piece.size() != to - start) return std::nullopt;
        for (std::size_t end = piece.size() - bytes.size() + 1; end > 0 && end <= piece.size();) {
            const void* first = ::memrchr(piece.data(), bytes.front(), end);
            if (first == nullptr) break;
            end = static_cast<std::size_t>(static_cast<const char*>(first) - piece.data());
            if (std::string_view(piece).substr(end).starts_with(bytes)) return start + end;
        }
        if (start == from) break;
        to = start + bytes.size() - 1;
    }
    return std::nullopt;
}

bool Reader::is_zeros(std::uint64_t from, std::uint64_t to) {
    while (from < to) {
        auto here = some(from);
        if (here.empty()) return false;
        here = here.first(static_cast<std::size_t>(std::min<std::uint64_t>(here.size(), to - from)));
        if (std::any_of(here.begin(), here.end(), [](std::byte b) { return b != std::byte{0}; })) return false;
        from += here.size();
    }
    return true;
}

std::optional<std::uint64_t> Reader::first_plain_sector(std::uint64_t from, std::uint64_t to) {
    constexpr std::uint64_t kSector = 512;
    for (std::uint64_t at = (from + kSector - 1) / kSector * kSector; at + kSector <= to && holds(at, kSector);
         at += kSector) {
        const auto here = some(at);
        if (here.size() < kSector) return std::nullopt;
        std::uint64_t any = 0;
        for (std::size_t i = 0; i < kSector; i += sizeof any) {
            std::uint64_t eight = 0;
            std::memcpy(&eight, here.data() + i, sizeof eight);
            any |= eight;
        }
        if ((any & 0x8080808080808080U) == 0) return at;
    }
    return std::nullopt;
}

}  // namespace dredger
