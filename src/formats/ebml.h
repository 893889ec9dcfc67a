// Elements of EBML (RFC 8794), of which Matroska and WebM (RFC 9559) are made.
#pragma once

#include <cstdint>
#include <optional>

#include "formats/reader.h"

namespace dredger::formats {

namespace ebml {
enum Id : std::uint32_t {
    kEbml = 0x1A45DFA3,
    kDocType = 0x4282,
    kSegment = 0x18538067,
    kSeekHead = 0x114D9B74,
    kInfo = 0x1549A966,
    kTracks = 0x1654AE6B,
    kTags = 0x1254C367,
    kChapters = 0x1043A770,
    kAttachments = 0x1941A469,
    kCues = 0x1C53BB6B,
    kCluster = 0x1F43B675,
    kTimestamp = 0xE7,
    kSilentTracks = 0x5854,
    kSimpleBlock = 0xA3,
    kBlockGroup = 0xA0,
    kEncryptedBlock = 0xAF,
    kPosition = 0xA7,
    kPrevSize = 0xAB,
    kVoid = 0xEC,
    kCrc32 = 0xBF,
};
constexpr std::uint64_t kUnknown = ~std::uint64_t{0};

struct Element {
    std::uint32_t id = 0;
    std::uint64_t at = 0;     // byte of the content
    std::uint64_t start = 0;  // of what it holds
    std::uint64_t size = 0;   // bytes of that, or kUnknown
    std::uint64_t end() const { return start + size; }
};

// None where no element can begin.
std::optional<Element> element_at(Reader& content, std::uint64_t at);

}  // namespace ebml
}  // namespace dredger::formats
