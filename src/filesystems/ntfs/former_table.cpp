#include "filesystems/ntfs/former_table.h"

#include <algorithm>
#include <map>
#include <set>

#include "base/checked.h"
#include "filesystems/ntfs/attributes.h"
#include "filesystems/ntfs/fixups.h"

namespace dredger::ntfs {
namespace {

constexpr std::uint64_t kChunk = 1 << 20;        // bytes read together
constexpr std::uint64_t kMaxBlank = 512;         // records without one, behind which the table is over
constexpr std::uint64_t kMaxRecords = 16 << 20;  // of a former table
constexpr std::size_t kMaxTables = 4;

struct Found {
    std::uint64_t number;
    std::uint64_t offset;  // bytes, on the volume
};

class Search {
  public:
    Search(const Medium& volume, const Geometry& geometry, const Mft& present)
        : volume_(volume), geometry_(geometry), present_(present.extents()) {
        std::sort(present_.begin(), present_.end(),
                  [](const Extent& a, const Extent& b) { return a.offset < b.offset; });
    }

    std::vector<FormerTable> run() {
        for (const Extent& piece : present_)
            if (piece.is_stored()) follow(piece.end());
        return tables();
    }

  private:
    // Records from here on, until there are none for a while.
    void follow(std::uint64_t from) {
        const std::uint64_t size = geometry_.record_size;
        std::uint64_t blank = 0;
        std::vector<std::byte> chunk(static_cast<std::size_t>(kChunk / size * size));
        for (std::uint64_t at = from; at + size <= volume_.size() && blank < kMaxBlank;) {
            const auto part = std::span(chunk).first(
                static_cast<std::size_t>(std::min<std::uint64_t>(chunk.size(), (volume_.size() - at) / size * size)));
            std::vector<Extent> bad;
            if (!volume_.read(at, part, &bad)) return;
            for (std::size_t i = 0; i < part.size() && blank < kMaxBlank; i += size)
                blank = !is_present(at + i) && take(at + i, part.subspan(i, size)) ? 0 : blank + 1;
            at += part.size();
        }
    }

    bool is_present(std::uint64_t offset) const {
        return std::any_of(present_.begin(), present_.end(), [&](const Extent& piece) {
            return piece.is_stored() && offset >= piece.offset && offset < piece.end();
        });
    }

    bool take(std::uint64_t offset, std::span<std::byte> bytes) {
        const ByteView view(bytes);
        if (!view.has(0, "FILE") || found_.size() >= kMaxRecords) return false;
        const std::size_t good = apply_fixups(bytes);
        const auto header = view.as<FileRecordSegmentHeader>(0);
        if (!header || good < sizeof(FileRecordSegmentHeader)) return false;
        const std::uint64_t number = std::uint64_t{header->SegmentNumberHighPart} << 32 | header->SegmentNumberLowPart;
        // A record that was never used does not tell its number, and there is nothing in it.
        if (number < FIRST_USER_FILE_NUMBER || number >= kMaxRecords) return true;
        if (!seen_.insert(offset).second) return true;
        found_.push_back({number, offset});
        vote(view.slice(0, good).value(), *header);
        return true;
    }

    // What is allocated for a stream is as many clusters as its runs count.
    void vote(ByteView record, const FileRecordSegmentHeader& header) {
        AttributeReader attributes(record, header);
        while (const auto attribute = attributes.next()) {
            if (attribute->resident || attribute->flags != 0 || attribute->nonresident.LowestVcn != 0) continue;
            const std::uint64_t clusters = std::uint64_t{attribute->nonresident.HighestVcn} + 1;
            const std::uint64_t bytes = attribute->nonresident.AllocatedLength;
            const std::uint64_t size = clusters == 0 || bytes % clusters != 0 ? 0 : bytes / clusters;
            if (size >= 512 && size <= 2 << 20 && (size & (size - 1)) == 0) ++votes_[size];
        }
    }

    // Records that belong together keep their distance from the table's start; pieces of one table tell of different
    // records.
    std::vector<FormerTable> tables() {
        std::map<std::uint64_t, std::vector<Found>> pieces;
        for (const Found& one : found_) pieces[one.offset - one.number * geometry_.record_size].push_back(one);
        std::vector<std::vector<Found>> by_size;
        by_size.reserve(pieces.size());
        for (auto& [start, piece] : pieces) by_size.push_back(std::move(piece));
        std::stable_sort(by_size.begin(), by_size.end(),
                         [](const auto& a, const auto& b) { return a.size() > b.size(); });
        std::vector<std::map<std::uint64_t, std::uint64_t>> generations;  // offsets by number
        for (const auto& piece : by_size) {
            const auto fits = [&](const auto& generation) {
                return std::none_of(piece.begin(), piece.end(),
                                    [&](const Found& one) { return generation.contains(one.number); });
            };
            auto generation = std::find_if(generations.begin(), generations.end(), fits);
            if (generation == generations.end()) {
                if (generations.size() == kMaxTables) continue;
                generation = generations.emplace(generations.end());
            }
            for (const Found& one : piece) generation->emplace(one.number, one.offset);
        }
        std::vector<FormerTable> list;
        list.reserve(generations.size());
        for (const auto& generation : generations) list.push_back(table_of(generation));
        return list;
    }

    FormerTable table_of(const std::map<std::uint64_t, std::uint64_t>& offsets) const {
        FormerTable table;
        table.geometry = geometry_;
        const auto most = std::max_element(votes_.begin(), votes_.end(),
                                           [](const auto& a, const auto& b) { return a.second < b.second; });
        if (most != votes_.end()) table.geometry.cluster_size = static_cast<std::uint32_t>(most->first);
        table.geometry.cluster_count = volume_.size() / table.geometry.cluster_size;
        table.records = offsets.size();
        const std::uint64_t size = geometry_.record_size;
        std::uint64_t reached = 0;  // record
        for (const auto& [number, offset] : offsets) {
            if (number > reached) table.extents.push_back(Extent::unknown((number - reached) * size));
            if (!table.extents.empty() && table.extents.back().is_stored() && table.extents.back().end() == offset)
                table.extents.back().length += size;
            else
                table.extents.push_back({offset, size});
            reached = number + 1;
        }
        return table;
    }

    const Medium& volume_;
    const Geometry& geometry_;
    std::vector<Extent> present_;
    std::vector<Found> found_;
    std::set<std::uint64_t> seen_;
    std::map<std::uint64_t, std::uint64_t> votes_;  // for a cluster size, in bytes
};

}  // namespace

std::vector<FormerTable> find_former_tables(const Medium& volume, const Geometry& geometry, const Mft& present) {
    return Search(volume, geometry, present).run();
}

}  // namespace dredger::ntfs
