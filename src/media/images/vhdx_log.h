// The log of a VHDX: what was to be written to its tables when the disk was last in use. Replayed over the file in
// memory only. Source: Microsoft, [MS-VHDX] 2.3.
#pragma once

#include "media/file_medium.h"
#include "media/images/patched.h"

namespace dredger {

// Lays the pages of the newest whole sequence of entries with this GUID over `patched`. How many entries were replayed.
Result<std::size_t> replay_vhdx_log(const FileMedium& file, std::uint64_t offset, std::uint32_t length,
                                    std::span<const std::byte, 16> guid, Patched& patched);

}  // namespace dredger
