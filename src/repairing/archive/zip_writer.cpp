#include "repairing/archive/zip_writer.h"

#include <boost/endian/conversion.hpp>

namespace dredger::repairing {
namespace {

using namespace std::string_literals;

constexpr std::uint64_t kMost32 = 0xFFFFFFFF;
constexpr std::uint16_t kVersionOfZip64 = 45;

template <class T>
void put(std::string& to, T value) {
    const T little = boost::endian::native_to_little(value);
    to.append(reinterpret_cast<const char*>(&little), sizeof(little));
}
void put16(std::string& to, std::uint64_t value) { put(to, static_cast<std::uint16_t>(value)); }
void put32(std::string& to, std::uint64_t value) { put(to, static_cast<std::uint32_t>(std::min(value, kMost32))); }

bool is_long(const ZipHeader& header) {
    return header.size >= kMost32 || header.packed >= kMost32 || header.local_at >= kMost32;
}

std::string long_sizes(const ZipHeader& header, bool is_central) {
    if (!is_long(header)) return {};
    std::string field;
    put16(field, 1);
    put16(field, is_central ? 24 : 16);
    put(field, header.size);
    put(field, header.packed);
    if (is_central) put(field, header.local_at);
    return field;
}

std::string local_bytes(const ZipHeader& header) {
    const std::string extra = long_sizes(header, false) + lasting_extra(header.extra);
    std::string bytes = "PK\3\4";
    put16(bytes, header.version_needed);
    put16(bytes, header.flags);
    put16(bytes, header.method);
    put16(bytes, header.time);
    put16(bytes, header.date);
    put32(bytes, header.crc);
    put32(bytes, is_long(header) ? kMost32 : header.packed);
    put32(bytes, is_long(header) ? kMost32 : header.size);
    put16(bytes, header.name.size());
    put16(bytes, extra.size());
    return bytes + header.name + extra;
}

std::string central_bytes(const ZipHeader& header) {
    const std::string extra = long_sizes(header, true) + lasting_extra(header.extra);
    std::string bytes = "PK\1\2";
    put16(bytes, header.version_made_by);
    put16(bytes, header.version_needed);
    put16(bytes, header.flags);
    put16(bytes, header.method);
    put16(bytes, header.time);
    put16(bytes, header.date);
    put32(bytes, header.crc);
    put32(bytes, is_long(header) ? kMost32 : header.packed);
    put32(bytes, is_long(header) ? kMost32 : header.size);
    put16(bytes, header.name.size());
    put16(bytes, extra.size());
    put16(bytes, header.comment.size());
    put16(bytes, 0);  // the disk that it starts on
    put16(bytes, header.internal_attributes);
    put32(bytes, header.external_attributes);
    put32(bytes, is_long(header) ? kMost32 : header.local_at);
    return bytes + header.name + extra + header.comment;
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
    if (may_be_long) {
        // In the field of ZIP64 the packed size is the second number, and that is the first of the extra fields.
        std::string number;
        put(number, packed);
        output_.replace(header.local_at + 30 + header.name.size() + 4 + 8, number);
    } else {
        std::string number;
        put32(number, packed);
        output_.replace(header.local_at + 18, number);
    }
    written_.push_back(std::move(header));
}

void ZipWriter::finish() {
    const std::uint64_t start = output_.size();
    for (const ZipHeader& header : written_) output_.add(central_bytes(header));
    const std::uint64_t length = output_.size() - start;
    const std::uint64_t count = written_.size();
    if (count >= 0xFFFF || length >= kMost32 || start >= kMost32) {
        const std::uint64_t at = output_.size();
        std::string end = "PK\6\6";
        put(end, std::uint64_t{44});
        put16(end, kVersionOfZip64);
        put16(end, kVersionOfZip64);
        put32(end, 0);
        put32(end, 0);
        for (const std::uint64_t value : {count, count, length, start}) put(end, value);
        end += "PK\6\7";
        put32(end, 0);
        put(end, at);
        put32(end, 1);
        output_.add(end);
    }
    std::string end = "PK\5\6\0\0\0\0"s;
    put16(end, std::min<std::uint64_t>(count, 0xFFFF));
    put16(end, std::min<std::uint64_t>(count, 0xFFFF));
    put32(end, length);
    put32(end, start);
    put16(end, 0);
    output_.add(end);
}

}  // namespace dredger::repairing
