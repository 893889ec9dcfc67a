#include "carving/find.h"

#include <array>

namespace dredger {
namespace {

constexpr std::uint64_t kSector = 512;

// Taken while the content is at hand: files that are compared later need not be read again.
std::optional<Fingerprint> fingerprint_of(const Medium& content, std::uint64_t size) {
    constexpr std::uint64_t kLongest = 16 << 20;  // bytes
    constexpr std::size_t kPiece = 64 << 10;
    if (size > kLongest || size != content.size()) return std::nullopt;
    Fingerprinter print;
    std::array<std::byte, kPiece> piece;
    for (std::uint64_t at = 0; at < size; at += kPiece) {
        const auto part = std::span(piece).first(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, size - at)));
        std::vector<Extent> bad;
        if (!content.read(at, part, &bad) || !bad.empty()) return std::nullopt;
        print.add(part);
    }
    return print.finish();
}

}  // namespace

bool keeps_others(const Format& format) {
    return format.kind == Kind::archive || format.kind == Kind::other || format.kind == Kind::database;
}

Measured only_a_head(std::uint64_t reach) {
    return lone_head(std::min(kSector, reach), reach, "nothing that goes with its beginning follows");
}

std::uint64_t sector_end(std::uint64_t at) { return (at + kSector - 1) / kSector * kSector; }

bool is_followed(const Medium& ground, std::uint64_t end) {
    Budget budget;
    Reader bytes(ground, budget, end);
    return !bytes.is_zeros(0, std::min(sector_end(end), ground.size()) - end);
}

bool is_padded(const Medium& ground, const Extent& last_piece) {
    constexpr std::uint64_t kLastBytes = 8;
    const std::uint64_t last = std::min(kLastBytes, last_piece.length);
    Budget budget;
    Reader bytes(ground, budget, last_piece.end() - last);
    return !bytes.is_zeros(0, last) && !is_followed(ground, last_piece.end());
}

std::set<std::uint64_t> starts_of_parts(const Format& format, const Medium& content) {
    constexpr std::size_t kMaxParts = 1 << 20;
    std::set<std::uint64_t> starts;
    if (!format.take_apart) return starts;
    Budget budget;
    Reader reader(content, budget);
    (void)format.take_apart(reader, [&](Part&& part) {
        if (!part.where.empty()) starts.insert(part.where.front().offset);
        return starts.size() < kMaxParts;
    });
    return starts;
}

const Format* finer_format(const Format& format, const Measured& measured) {
    const Format* finer = measured.format.empty() ? nullptr : format_named(measured.format);
    return finer != nullptr ? finer : &format;
}

Find find_of(const Format& format, const Measured& measured, const std::vector<Extent>& pieces, const MediumPtr& read,
             const Content& ground, const Budget::Stop& stop) {
    Find find;
    find.format = finer_format(format, measured);
    find.measured = measured;
    find.size = measured.length;
    const Content content(read, pieces);
    if (format.describe != nullptr) {
        Budget for_words(stop);
        Reader again(content, for_words);
        find.said = format.describe(again, find.size);
    }
    for (const Extent& piece : pieces)
        for (const Extent& place : ground.places_of(piece.offset, piece.length)) find.pieces.push_back(place);
    find.is_padded = is_padded(*read, pieces.back());
    find.is_cut_off = measured.end == Measured::End::broken && pieces.back().end() == read->size();
    find.is_followed = pieces.front().offset % kSector == 0 && is_followed(*read, pieces.back().end());
    find.fingerprint = fingerprint_of(content, find.size);
    return find;
}

}  // namespace dredger
