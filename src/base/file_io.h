// Whole reads and writes of files: what a call leaves over is asked for again.
#pragma once

#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <span>

namespace dredger {

// How many bytes from `offset` on were read: fewer than asked for at the end of the file, or where it can't be read.
std::size_t read_all(int descriptor, std::uint64_t offset, std::span<std::byte> into);
// Whether all was written; errno says why not.
bool write_all(int descriptor, std::uint64_t offset, std::span<const std::byte> bytes);

// A file in `folder` without a name, for reading and writing; it is gone when it is closed. -1 where none can be made.
int nameless_file(const std::filesystem::path& folder);

}  // namespace dredger
