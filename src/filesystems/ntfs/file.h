// A file put together from its base record and the records that continue it.
#pragma once

#include <string>
#include <vector>

#include "base/times.h"
#include "filesystems/ntfs/mft.h"
#include "media/layout.h"

namespace dredger::ntfs {

struct Name {
    MftSegmentReference parent{};
    std::string text;  // UTF-8
    std::uint8_t space = FILE_NAME_POSIX;
    std::uint64_t size = 0;  // bytes, as the name remembers it
    std::uint32_t attributes = 0;
    std::optional<FileTime> created, modified, changed, accessed;
};

// A $FILE_NAME at the start of `value`; nothing where its length does not fit.
std::optional<Name> parse_name(ByteView value);

// The content of a $DATA attribute.
struct Stream {
    std::string name;  // empty: the main one
    std::uint64_t size = 0;
    bool encrypted = false;
    bool whole = true;  // false: records that tell a part of it are missing or damaged
    VolumeLayout layout;
};

// Content in clusters: what an attribute, or the first of its pieces, tells of it.
Stream nonresident_stream(const std::string& name, std::uint16_t flags, const NonresidentForm& form, Runlist&& runs,
                          const Geometry& geometry);

struct File {
    std::uint64_t number = 0;
    std::uint16_t sequence = 0;
    bool in_use = false;
    bool is_folder = false;
    bool damaged = false;  // a record of it is torn, or its attributes make no sense half-way
    bool has_times = false;
    std::optional<FileTime> created, modified, changed, accessed;
    std::uint32_t attributes = 0;   // [MS-FSCC] 2.6
    std::uint32_t reparse_tag = 0;  // 0: none
    std::string link_target;        // of symbolic links and junctions
    std::vector<Name> names;
    std::vector<Name> former_names;  // where it has no name any more: those whose bytes still stand in its records
    std::vector<Stream> streams;     // the main one first, where there is one
    std::vector<Extent> index;       // the folder's index blocks, on the volume
    std::vector<Extent> keeping;     // clusters of other attributes
    std::string volume_name;         // of record 3
    std::uint16_t volume_flags = 0;
};

// Reads what a base record and its extension records tell. Not for threads.
class FileReader {
  public:
    FileReader(MediumPtr volume, const Geometry& geometry, const Mft& mft)
        : volume_(std::move(volume)), geometry_(geometry), mft_(mft) {}

    // `extensions`: the numbers of further records that call this one their base. The list of a file that was deleted
    // may no longer name them.
    File read(const RawRecord& base, std::span<const std::uint64_t> extensions = {}) const;

  private:
    struct Piece;
    void take_record(const RawRecord& record, File& file, std::vector<Piece>& pieces,
                     std::vector<std::byte>* list) const;
    void follow_list(const RawRecord& base, ByteView list, std::span<const std::uint64_t> extensions, File& file,
                     std::vector<Piece>& pieces) const;
    void find_former_names(const RawRecord& base, std::span<const std::uint64_t> extensions, File& file) const;
    void join(std::vector<Piece>&& pieces, File& file) const;
    void take_data(const Piece& first, Runlist&& runs, File& file) const;

    MediumPtr volume_;
    const Geometry& geometry_;
    const Mft& mft_;
};

}  // namespace dredger::ntfs
