// Apple partition maps. Structure: "Inside Macintosh: Devices", chapter 3, "The Driver Descriptor Record" and "The
// Partition Map".
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <optional>

#include "volumes/volume.h"

namespace dredger::apm {

struct Block0 {
    boost::endian::big_uint16_t sbSig;      // "ER"
    boost::endian::big_uint16_t sbBlkSize;  // bytes
    boost::endian::big_uint32_t sbBlkCount;
};
static_assert(sizeof(Block0) == 8);

struct Partition {
    boost::endian::big_uint16_t pmSig;  // "PM"
    boost::endian::big_uint16_t pmSigPad;
    boost::endian::big_uint32_t pmMapBlkCnt;    // entries of the whole map
    boost::endian::big_uint32_t pmPyPartStart;  // blocks
    boost::endian::big_uint32_t pmPartBlkCnt;
    char pmPartName[32];
    char pmParType[32];
};
static_assert(sizeof(Partition) == 80);

// The map of `medium`, or nothing where it has none. Entries that are free, or hold the map itself or drivers, are left
// out.
std::optional<PartitionMap> read(const Medium& medium);

}  // namespace dredger::apm
