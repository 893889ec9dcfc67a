// Deflate (RFC 1951) taken up in the middle: text that stands behind damage. What its packing refers back to and is
// lost is unknown, and marked.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>

#include "formats/reader.h"

namespace dredger::repairing {

struct DeflateRest {
    std::string text;           // in which U+FFFD stands for each byte that is unknown
    std::uint64_t known = 0;    // bytes of it
    std::uint64_t unknown = 0;  // bytes
    std::uint64_t from = 0;     // the byte of the content in which its first block begins
};

// From the first block in [from, to) on, of the content, that unpacks to text and leads to the end of the stream, which
// lies in the last bytes in front of `to`. None where there is none, or next to nothing of it would be known.
std::optional<DeflateRest> deflate_rest(Reader& content, std::uint64_t from, std::uint64_t to,
                                        const std::function<bool()>& should_stop);

}  // namespace dredger::repairing
