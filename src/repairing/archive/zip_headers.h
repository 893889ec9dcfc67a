// The headers of ZIP archives (PKWARE APPNOTE 6.3.10, 4.3.7, 4.3.9, 4.3.12), read so that damaged ones are told from
// sound ones and from what only looks like one.
#pragma once

#include <optional>
#include <string>

#include "formats/reader.h"

namespace dredger::repairing {

struct ZipHeader {
    std::uint64_t at = 0;   // byte of the content
    std::uint64_t end = 0;  // behind it
    std::uint16_t version_made_by = 20;
    std::uint16_t version_needed = 20;
    std::uint16_t flags = 0;
    std::uint16_t method = 0;
    std::uint16_t time = 0, date = 0;  // of MS-DOS
    std::uint32_t crc = 0;
    std::uint64_t packed = 0, size = 0;  // bytes; those of ZIP64 where it has them
    std::string name, extra, comment;    // as they are stored; the comment of central ones only
    std::uint16_t internal_attributes = 0;
    std::uint32_t external_attributes = 0;
    std::uint64_t local_at = 0;  // of central ones: where the local header is said to be

    bool is_encrypted() const { return (flags & 1U) != 0; }
    bool is_described() const { return (flags & 8U) != 0; }  // crc and sizes stand behind the data
};

inline constexpr std::uint16_t kZipStored = 0, kZipDeflated = 8;
inline constexpr std::uint16_t kZipUtf8 = 0x800;  // the flag of names in UTF-8

// None where nothing sensible stands there. With `unsigned_too` the four bytes of the signature don't count.
std::optional<ZipHeader> read_local_header(Reader& content, std::uint64_t at);
std::optional<ZipHeader> read_central_header(Reader& content, std::uint64_t at, bool unsigned_too = false);

// The extra fields without those that only fit the archive that they stood in: ZIP64.
std::string lasting_extra(std::string_view extra);

}  // namespace dredger::repairing
