#include "media/images/vhdx_log.h"

#include <boost/endian/arithmetic.hpp>
#include <cstring>
#include <optional>

#include "base/bytes.h"
#include "base/crc32c.h"

namespace dredger {
namespace {

using boost::endian::little_uint32_t, boost::endian::little_uint64_t;

struct LogEntryHeader {
    char signature[4];  // "loge"
    little_uint32_t checksum;
    little_uint32_t entry_length;
    little_uint32_t tail;
    little_uint64_t sequence_number;
    little_uint32_t descriptor_count;
    little_uint32_t reserved;
    std::byte log_guid[16];
    little_uint64_t flushed_file_offset;
    little_uint64_t last_file_offset;
};

// "desc" and "zero" share their form.
struct LogDescriptor {
    char signature[4];
    little_uint32_t trailing_bytes;
    little_uint64_t leading_bytes;  // of a zero descriptor: how many bytes are zeros
    little_uint64_t file_offset;
    little_uint64_t sequence_number;
};

constexpr std::uint32_t kSector = 4096;  // bytes; the log is made of these
constexpr std::uint32_t kLongest = 64 << 20;
constexpr std::uint64_t kMaxZeros = 64 << 20;  // bytes that one descriptor may clear

struct Entry {
    LogEntryHeader header;
    std::vector<std::byte> bytes;
};

std::optional<Entry> entry_at(const std::vector<std::byte>& log, std::size_t at, std::span<const std::byte, 16> guid) {
    const auto header = ByteView(log).as<LogEntryHeader>(at);
    if (!header || !ByteView(log).has(at, "loge") || header->entry_length < kSector ||
        header->entry_length % kSector != 0 || header->entry_length > log.size() ||
        std::memcmp(header->log_guid, guid.data(), guid.size()) != 0)
        return std::nullopt;
    Entry entry{*header, {}};
    // It may go on at the start of the log.
    for (std::size_t done = 0; done < header->entry_length; done += kSector) {
        const auto from = log.begin() + static_cast<std::ptrdiff_t>((at + done) % log.size());
        entry.bytes.insert(entry.bytes.end(), from, from + kSector);
    }
    std::vector<std::byte> unsigned_bytes = entry.bytes;
    std::fill_n(unsigned_bytes.begin() + 4, 4, std::byte{0});
    if (crc32c(unsigned_bytes) != header->checksum) return std::nullopt;
    return entry;
}

void replay(const Entry& entry, Patched& patched) {
    const ByteView view(entry.bytes);
    const std::size_t count = entry.header.descriptor_count;
    std::size_t data = (sizeof(LogEntryHeader) + count * sizeof(LogDescriptor) + kSector - 1) / kSector * kSector;
    for (std::size_t n = 0; n < count; ++n) {
        const std::size_t at = sizeof(LogEntryHeader) + n * sizeof(LogDescriptor);
        const auto descriptor = view.as<LogDescriptor>(at);
        if (!descriptor) return;
        if (view.has(at, "zero")) {
            if (descriptor->leading_bytes <= kMaxZeros)
                for (std::uint64_t done = 0; done < descriptor->leading_bytes; done += kSector)
                    patched.lay(descriptor->file_offset + done, std::vector<std::byte>(kSector));
        } else if (view.has(at, "desc")) {
            const auto sector = view.slice(data, kSector);
            if (!sector) return;
            // The descriptor keeps the bytes in whose place the sector has its own signature and numbers.
            std::vector<std::byte> page(sector->bytes().begin(), sector->bytes().end());
            std::memcpy(page.data(), &descriptor->leading_bytes, 8);
            std::memcpy(page.data() + kSector - 4, &descriptor->trailing_bytes, 4);
            patched.lay(descriptor->file_offset, std::move(page));
            data += kSector;
        }
    }
}

}  // namespace

Result<std::size_t> replay_vhdx_log(const FileMedium& file, std::uint64_t offset, std::uint32_t length,
                                    std::span<const std::byte, 16> guid, Patched& patched) {
    if (length == 0 || length % kSector != 0 || length > kLongest)
        return fail(ErrorKind::not_understood, "the log of the VHDX can't be as long as it says", file.name());
    DREDGER_TRY(const auto log, file.bytes(offset, length));

    // The newest run of entries whose numbers count up and which reaches back to what its last one calls its tail.
    std::vector<Entry> newest;
    for (std::size_t start = 0; start < log.size(); start += kSector) {
        std::vector<Entry> sequence;
        std::vector<std::size_t> places;
        std::size_t at = start, used = 0;
        while (used < log.size()) {
            auto entry = entry_at(log, at, guid);
            if (!entry ||
                (!sequence.empty() && entry->header.sequence_number != sequence.back().header.sequence_number + 1))
                break;
            used += entry->header.entry_length;
            places.push_back(at);
            at = (at + entry->header.entry_length) % log.size();
            sequence.push_back(std::move(*entry));
        }
        if (sequence.empty()) continue;
        const auto tail = std::find(places.begin(), places.end(), sequence.back().header.tail);
        if (tail == places.end()) continue;
        if (!newest.empty() && newest.back().header.sequence_number >= sequence.back().header.sequence_number) continue;
        sequence.erase(sequence.begin(), sequence.begin() + (tail - places.begin()));
        newest = std::move(sequence);
    }
    if (!newest.empty() && newest.back().header.flushed_file_offset > file.size())
        return fail(ErrorKind::not_understood, "the VHDX is shorter than its log says", file.name(),
                    "the file was cut short");
    for (const Entry& entry : newest) replay(entry, patched);
    return newest.size();
}

}  // namespace dredger
