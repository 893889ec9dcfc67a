#include "lives/kinship.h"

#include <algorithm>
#include <unordered_map>
#include <xxhash.h>

#include "formats/format.h"

namespace dredger::lives {
namespace {

constexpr std::uint64_t kMostContent = 32 << 20;  // bytes
constexpr std::size_t kMostPieces = 8192;
constexpr std::size_t kLeastPiece = 24, kMostPiece = 512;  // bytes
constexpr std::uint32_t kCutMask = 0x3F;                   // a cut every 64 bytes or so
constexpr std::size_t kMostOfPart = 4 << 20;               // bytes of an entry that are unpacked

class Cutter {
  public:
    void add(std::string_view bytes) {
        // A sum over the last 16 bytes, by which the same bytes are cut alike wherever they stand.
        std::size_t from = 0;
        std::uint32_t rolling = 0;
        constexpr std::size_t kWindow = 16;
        constexpr std::uint32_t kFactor = 0x01000193;
        std::uint32_t leaving = 1;
        for (std::size_t i = 0; i < kWindow; ++i) leaving *= kFactor;
        for (std::size_t at = 0; at < bytes.size(); ++at) {
            rolling = rolling * kFactor + static_cast<std::uint8_t>(bytes[at]) + 1;
            if (at >= kWindow) rolling -= leaving * (static_cast<std::uint8_t>(bytes[at - kWindow]) + 1U);
            const std::size_t length = at + 1 - from;
            if (length < kLeastPiece || (length < kMostPiece && ((rolling >> 9) & kCutMask) != 0)) continue;
            take(bytes.substr(from, length));
            from = at + 1;
        }
        if (from < bytes.size()) take(bytes.substr(from));
    }

    std::vector<std::uint64_t> finish() {
        shorten();
        return std::move(pieces_);
    }

  private:
    void take(std::string_view piece) {
        // Runs of one byte are in everything.
        if (std::all_of(piece.begin(), piece.end(), [&](char c) { return c == piece.front(); })) return;
        pieces_.push_back(XXH3_64bits(piece.data(), piece.size()));
        if (pieces_.size() >= 4 * kMostPieces) shorten();
    }
    void shorten() {
        std::sort(pieces_.begin(), pieces_.end());
        pieces_.erase(std::unique(pieces_.begin(), pieces_.end()), pieces_.end());
        if (pieces_.size() > kMostPieces) pieces_.resize(kMostPieces);
    }

    std::vector<std::uint64_t> pieces_;
};

}  // namespace

Sketch sketch_of(const Medium& content) {
    Sketch sketch;
    sketch.size = content.size();
    Budget budget;
    Reader reader(content, budget);
    Cutter cutter;
    bool has_entries = false;
    if (reader.has(0, "PK\3\4"))
        if (const Format* zip = format_named("zip"); zip != nullptr && zip->take_apart) {
            std::vector<Part> parts;
            (void)zip->take_apart(reader, [&](Part&& part) {
                parts.push_back(std::move(part));
                return parts.size() < 4000;
            });
            for (const Part& part : parts) {
                if (part.role != "entry" || part.size == 0) continue;
                has_entries = true;
                cutter.add(bytes_of(reader, part, kMostOfPart));
            }
        }
    if (!has_entries)
        for (std::uint64_t at = 0; at < std::min(content.size(), kMostContent);) {
            const std::string some = reader.text(at, Reader::kMaxText);
            if (some.empty()) break;
            cutter.add(some);
            at += some.size();
        }
    sketch.pieces = cutter.finish();
    return sketch;
}

std::vector<double> kinship(const Sketch& one, const std::vector<Sketch>& others) {
    std::vector<double> shares(others.size(), 0);
    if (one.empty()) return shares;
    std::unordered_map<std::uint64_t, unsigned> holders;
    for (const std::uint64_t piece : one.pieces) holders.emplace(piece, 0);
    for (const Sketch& other : others)
        for (const std::uint64_t piece : other.pieces)
            if (const auto found = holders.find(piece); found != holders.end()) ++found->second;
    const auto weight = [&](std::uint64_t piece) { return 1.0 / std::max(1U, holders.at(piece)); };
    double all = 0;
    for (const std::uint64_t piece : one.pieces) all += weight(piece);
    for (std::size_t n = 0; n < others.size(); ++n) {
        double shared = 0;
        for (const std::uint64_t piece : others[n].pieces)
            if (holders.contains(piece)) shared += weight(piece);
        // What is much larger has more by chance, and is hardly the same document.
        shares[n] = shared / all;
    }
    return shares;
}

}  // namespace dredger::lives
