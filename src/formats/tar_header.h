// The header of a tar archive's member (POSIX 1003.1-2017, pax, "ustar Interchange Format"; GNU tar manual).
#pragma once

#include <optional>
#include <string>

#include "formats/reader.h"

namespace dredger::formats {

struct TarHeader {
    static constexpr std::uint64_t kBlock = 512;  // bytes

    std::string name;        // with its prefix
    std::uint64_t size = 0;  // bytes of content behind it
    char type = '0';

    // Bytes of the blocks that its content fills.
    std::uint64_t room() const { return (size + kBlock - 1) / kBlock * kBlock; }
    // Whether it only tells something of the member behind it.
    bool is_prelude() const { return type == 'x' || type == 'g' || type == 'L' || type == 'K'; }
};

// None where its checksum is off. A size is at most 2^50.
std::optional<TarHeader> tar_header_at(Reader& content, std::uint64_t at);

}  // namespace dredger::formats
