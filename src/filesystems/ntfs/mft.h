// The master file table: where its records lie, and reading them.
#pragma once

#include <functional>
#include <vector>

#include "filesystems/ntfs/runlist.h"
#include "filesystems/ntfs/structures.h"

namespace dredger::ntfs {

// A record with its fix-ups applied.
struct RawRecord {
    std::uint64_t number = 0;
    FileRecordSegmentHeader header{};
    ByteView bytes;            // cut to those that are good
    bool torn = false;         // a part of it was written at another time
    std::uint64_t offset = 0;  // in the table

    bool in_use() const { return (header.Flags & FILE_RECORD_SEGMENT_IN_USE) != 0; }
    bool is_folder() const { return (header.Flags & FILE_NAME_INDEX_PRESENT) != 0; }
    bool is_extension() const {
        return header.BaseFileRecordSegment.number() != 0 || header.BaseFileRecordSegment.SequenceNumber != 0;
    }
};

class Mft {
  public:
    // Finds the table through its own first record, or through the copy of that in $MFTMirr.
    static Result<Mft> open(MediumPtr volume, const Geometry& geometry, std::vector<std::string>& warnings);

    // A table that lies there, whatever its own first record tells. `geometry` must outlive it.
    static Mft lying_at(MediumPtr volume, const Geometry& geometry, std::vector<Extent> extents);

    std::uint64_t record_count() const { return record_count_; }
    const std::vector<Extent>& extents() const { return extents_; }

    // Reads the whole table front to back and shows each record that stands there; `visit` says whether to go on.
    // Tells how many records could not be read or make no sense though something stands there.
    std::uint64_t each(const std::function<bool(const RawRecord&)>& visit) const;

    // One record, wherever it lies; nothing where none stands there. The view is good until the next call.
    std::optional<RawRecord> find(std::uint64_t number) const;

    // Where these bytes of a record lie on the volume, in order.
    std::vector<Extent> locate(const RawRecord& record, std::size_t offset, std::size_t length) const;

  private:
    Mft(MediumPtr volume, const Geometry& geometry) : volume_(std::move(volume)), geometry_(&geometry) {}
    void set_extents(std::vector<Extent> extents);
    bool read(std::uint64_t offset, std::span<std::byte> into) const;
    std::optional<RawRecord> interpret(std::uint64_t number, std::span<std::byte> bytes) const;
    Result<void> follow_own_runs(RawRecord first, std::vector<std::string>& warnings);

    MediumPtr volume_;
    const Geometry* geometry_;
    std::vector<Extent> extents_;        // of the table, on the volume
    std::vector<std::uint64_t> starts_;  // of each extent in the table
    std::uint64_t record_count_ = 0;
    mutable std::vector<std::byte> one_;
};

}  // namespace dredger::ntfs
