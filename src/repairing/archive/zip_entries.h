// The entries of a damaged ZIP archive, found from both sides (the headers in front of them and those of the central
// directory) and from the packed streams themselves. Where headers disagree, what agrees with the data wins.
#pragma once

#include <functional>
#include <span>
#include <string>
#include <vector>

#include "repairing/archive/zip_headers.h"
#include "repairing/mending.h"

namespace dredger::repairing {

struct ZipEntry {
    enum class State {
        right,      // its checksum agrees
        unchecked,  // encrypted, or packed in a way that can't be undone here; its place is told by its headers
        doubtful,   // all of it can be unpacked, but it agrees with no checksum
        cut,        // what stands up to `kept` bytes of it is believed
        lost,       // a header tells of it, and nothing of its data can be had
    };
    ZipHeader header;  // what is believed of it: name, method, crc, sizes
    State state = State::lost;
    std::uint64_t data_at = 0;   // byte of the content
    std::uint64_t packed = 0;    // bytes of the content
    std::uint64_t kept = 0;      // unpacked bytes that are believed
    std::uint32_t kept_crc = 0;  // of these

    bool is_whole() const { return state == State::right || state == State::unchecked; }
};

struct ZipContents {
    std::vector<ZipEntry> entries;   // in the order of their places
    bool is_as_it_should_be = true;  // headers, directory and ends agree, and nothing lies between or behind
    std::vector<std::string> remarks;
};

ZipContents find_zip_entries(const Damaged& file, Budget& budget);

// Hands over what is believed of an entry, unpacked, piece by piece.
void each_byte_of(Reader& content, const ZipEntry& entry, const std::function<void(std::span<const std::byte>)>& visit);
// The first `most` bytes of that.
std::string bytes_of(Reader& content, const ZipEntry& entry, std::uint64_t most);

}  // namespace dredger::repairing
