// Traces of file systems that are recognised, though their records can't be read.
#pragma once

#include "volumes/trace.h"

namespace dredger::unread {

// Apple's Technical Note TN1150: volume header.
std::optional<VolumeTrace> trace_hfsplus(const Medium& medium, std::uint64_t at, ByteView there);
// "Apple File System Reference": container superblock.
std::optional<VolumeTrace> trace_apfs(const Medium& medium, std::uint64_t at, ByteView there);

}  // namespace dredger::unread
