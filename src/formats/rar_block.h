// A block of a RAR 5 archive ("RAR 5.0 archive format", rarlab.com/technote.htm).
#pragma once

#include <optional>
#include <string>

#include "formats/reader.h"

namespace dredger::formats {

struct RarBlock {
    enum Type : std::uint64_t { kMain = 1, kFile = 2, kService = 3, kEncryption = 4, kEnd = 5 };

    std::uint64_t at = 0;      // where it begins
    std::uint64_t header = 0;  // bytes of its header, with the checksum
    std::uint64_t data = 0;    // bytes that it says stand behind it
    std::uint64_t type = 0;
    std::string name;                  // of a file
    std::optional<std::uint32_t> crc;  // of a file that is stored as it is
    bool is_solid = false;             // what it is packed with goes on from the file before
    std::uint64_t data_at() const { return at + header; }
};

// None where no header agrees with its checksum.
std::optional<RarBlock> rar_block_at(Reader& content, std::uint64_t at);

}  // namespace dredger::formats
