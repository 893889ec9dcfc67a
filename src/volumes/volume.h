// Where the file systems of a medium lie, as its partition table tells it.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "media/medium.h"

namespace dredger {

enum class TableKind {
    none,
    mbr,
    gpt,
    lost,       // of a volume: no table tells of it, what its file system left does
    container,  // of a volume: the container that it lies in tells of it
    apm,
};

struct Volume {
    unsigned number = 0;       // from 1, in the order of their places on the medium
    std::uint64_t offset = 0;  // bytes from the start of the medium
    std::uint64_t length = 0;  // bytes that lie on the medium; a truncated image holds fewer than the table says
    TableKind table = TableKind::none;
    std::string type;                        // the table's own type, in words; empty for an unpartitioned medium
    std::string name;                        // GPT partition name
    std::uint64_t cut = 0;                   // bytes that the table promises beyond the end of the medium
    std::string evidence = {};               // of a lost one: what shows that it is there
    std::string holds = {};                  // of a container, what it is: its volumes are further ones of the map
    std::vector<Extent> pieces = {};         // of one that lies in several places, these on the medium, in order
    std::vector<std::uint64_t> starts = {};  // of these, in bytes on the volume, where there are many (index_pieces)

    // Its volumes are scanned in its stead. A mirror whose file system begins with the member itself has none.
    bool is_container() const { return !holds.empty() && has_volumes; }
    bool has_volumes = false;
};

struct PartitionMap {
    TableKind table = TableKind::none;
    std::vector<Volume> volumes;
    std::vector<std::string> warnings;  // what is wrong with the table, a sentence each
};

// Reads GPT (or its backup), else an Apple partition map, else MBR with extended partitions, else takes the whole
// medium as one volume. Damage in a table costs the entries in it; only a medium whose first sector can't be read at
// all is an error.
Result<PartitionMap> read_partition_map(const Medium& medium);

}  // namespace dredger
