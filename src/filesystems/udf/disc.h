// The blocks of a UDF volume: its partitions, where their blocks lie, and what a file's entry tells.
#pragma once

#include <map>
#include <optional>
#include <vector>

#include "filesystems/filesystem.h"
#include "filesystems/udf/structures.h"

namespace dredger::udf {

// A file or directory by its (extended) file entry.
struct Node {
    std::uint8_t type = 0;    // FileTypes
    std::uint64_t place = 0;  // byte of the volume at which its entry stands
    std::uint64_t size = 0;   // bytes
    VolumeLayout layout;
    std::optional<FileTime> created, modified, accessed, changed;
    std::uint32_t uid = 0, gid = 0;
    std::uint32_t permissions = 0;
    std::uint16_t links = 0;  // 0: nothing leads to it any more
    std::vector<Extent> own;  // where its entry and what continues it stand
};

class Disc {
  public:
    // None where no UDF volume is there.
    static std::optional<Disc> open(MediumPtr volume, std::vector<std::string>& warnings);

    const MediumPtr& volume() const { return volume_; }
    std::uint64_t block() const { return block_; }  // bytes
    const std::string& label() const { return label_; }
    LongAd root() const { return root_; }
    std::uint64_t size() const;  // bytes that its partitions reach to

    // Where a block of a partition lies, in bytes of the volume; none where it lies nowhere.
    std::optional<std::uint64_t> place_of(std::uint16_t partition, std::uint32_t block) const;
    std::optional<Node> node(const LongAd& icb) const;

  private:
    // A partition reference: plain, or through a file that says where each block lies.
    struct Partition {
        std::uint64_t start = 0;                    // sector
        std::uint64_t length = 0;                   // sectors
        std::vector<Extent> metadata;               // bytes on the volume, in order; empty: plain
        std::vector<std::uint32_t> virtual_blocks;  // block of the plain one for each; empty: plain
    };
    bool read_volume(const ExtentAd& sequence, std::vector<std::string>& warnings);
    bool read_partition_maps(ByteView maps, std::uint32_t count,
                             const std::map<std::uint16_t, PartitionDescriptor>& partitions,
                             std::vector<std::string>& warnings);
    bool read_virtual_table(Partition& partition, std::uint16_t reference);
    void add_extents(ByteView ads, unsigned type, std::uint16_t partition, std::uint64_t size, Node& node) const;

    MediumPtr volume_;
    std::uint64_t block_ = 2048;
    std::string label_;
    LongAd root_{};
    std::vector<Partition> partitions_;
};

// Whether a descriptor stands at the start of `view`: its tag's checksum agrees.
std::optional<Tag> tag_of(ByteView view);
// OSTA CS0: a byte that says how the characters are stored, and these.
std::string text_of(ByteView view);
std::optional<FileTime> time_of(const Timestamp& stamp);

}  // namespace dredger::udf
