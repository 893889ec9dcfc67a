#include "repairing/archive/zip_writer.h"

#include <algorithm>

#include "repairing/number_bytes.h"

namespace dredger::repairing {
namespace {

using namespace std::string_literals;

constexpr std::uint64_t kMost32 = 0xFFFFFFFF;
constexpr std::uint16_t kVersionOfZip64 = 45;

bool is_long(const ZipHeader& header) {
    return header.size >= kMost32 || header.packed >= kMost32 || header.local_at >= kMost32;
}
std::string size_bytes(const ZipHeader& header, std::uint64_t value) {
    return little32(is_long(header) ? kMost32 : value);
}

std::string long_sizes(const ZipHeader& header, bool is_central) {
    if (!is_long(header)) return {};
    return little16(1) + little16(is_central ? 24 : 16) + little(header.size) + little(header.packed) +
           (is_central ? little(header.local_at) : "");
}

// What both headers say alike, up to the length of the name.
std::string common_bytes(const ZipHeader& header) {
    return little16(header.version_needed) + little16(header.flags) + little16(header.method) + little16(header.time) +
           little16(header.date) + little32(header.crc) + size_bytes(header, header.packed) +
           size_bytes(header, header.size) + little16(header.name.size());
}

std::string local_bytes(const ZipHeader& header) {
    const std::string extra = long_sizes(header, false) + lasting_extra(header.extra);
    return "PK\3\4" + common_bytes(header) + little16(extra.size()) + header.name + extra;
}

std::string central_bytes(const ZipHeader& header) {
    const std::string extra = long_sizes(header, true) + lasting_extra(header.extra);
    const std::string first_disk = little16(0);
    return "PK\1\2" + little16(header.version_made_by) + common_bytes(header) + little16(extra.size()) +
           little16(header.comment.size()) + first_disk + little16(header.internal_attributes) +
           little32(header.external_attributes) + size_bytes(header, header.local_at) + header.name + extra +
           header.comment;
}

}  // namespace

void ZipWriter::add(ZipHeader header, const std::function<void(Output&)>& add_data) {
    header.flags = static_cast<std::uint16_t>(header.flags & ~8U);  // sizes stand in front
    header.local_at = output_.size();
    // How long the data is shows when it is there; where that could need ZIP64 there is room for it from the start.
    const bool may_be_long = header.size >= kMost32 / 2;
    if (may_be_long) header.packed = kMost32;
    if (may_be_long) header.version_needed = std::max(header.version_needed, kVersionOfZip64);
    output_.add(local_bytes(header));
    const std::uint64_t data_at = output_.size();
    add_data(output_);
    const std::uint64_t packed = output_.size() - data_at;
    header.packed = packed;
    // In the field of ZIP64 the packed size is the second number, and that is the first of the extra fields.
    if (may_be_long)
        output_.replace(header.local_at + 30 + header.name.size() + 4 + 8, little(packed));
    else
        output_.replace(header.local_at + 18, little32(packed));
    written_.push_back(std::move(header));
}

void ZipWriter::finish() {
    const std::uint64_t start = output_.size();
    for (const ZipHeader& header : written_) output_.add(central_bytes(header));
    const std::uint64_t length = output_.size() - start;
    const std::uint64_t count = written_.size();
    if (count >= 0xFFFF || length >= kMost32 || start >= kMost32) {
        const std::uint64_t at = output_.size();
        output_.add("PK\6\6" + little(std::uint64_t{44}) + little(kVersionOfZip64) + little(kVersionOfZip64) +
                    little32(0) + little32(0) + little(count) + little(count) + little(length) + little(start));
        output_.add("PK\6\7" + little32(0) + little(at) + little32(1));
    }
    const std::string entries = little16(std::min<std::uint64_t>(count, 0xFFFF));
    output_.add("PK\5\6\0\0\0\0"s + entries + entries + little32(std::min(length, kMost32)) +
                little32(std::min(start, kMost32)) + little16(0));
}

}  // namespace dredger::repairing
