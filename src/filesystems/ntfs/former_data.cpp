#include "filesystems/ntfs/former_data.h"

#include "filesystems/ntfs/attributes.h"
#include "filesystems/ntfs/fixups.h"

namespace dredger::ntfs {
namespace {

constexpr std::size_t kLogPage = 4096;           // bytes
constexpr std::size_t kLogPageHeader = 64;       // bytes before the records of the log in each page
constexpr std::uint64_t kLargestLog = 64 << 20;  // bytes, the most that Windows makes by itself
constexpr std::size_t kMaxCopies = 100'000;
constexpr std::size_t kAlignment = 8;

// An attribute that can only be the whole main content of a file that has clusters.
std::optional<Stream> whole_content(const Attribute& attribute, const Geometry& geometry) {
    const NonresidentForm& form = attribute.nonresident;
    if (attribute.type != DATA || attribute.resident || !attribute.name.empty() || form.LowestVcn != 0)
        return std::nullopt;
    const std::uint64_t clusters = divide_up(form.AllocatedLength, geometry.cluster_size);
    const bool sizes_fit = form.FileSize > 0 && form.FileSize <= form.AllocatedLength &&
                           form.ValidDataLength <= form.FileSize && form.HighestVcn + 1 == clusters;
    if (!sizes_fit) return std::nullopt;
    Runlist runs = decode_mapping_pairs(attribute.mapping_pairs, 0, geometry);
    if (!runs.whole || runs.end() != clusters) return std::nullopt;
    return nonresident_stream({}, attribute.flags, form, std::move(runs), geometry);
}

}  // namespace

std::vector<Stream> find_data_in_slack(const RawRecord& record, const Geometry& geometry) {
    std::vector<Stream> found;
    const std::size_t used = record.header.FirstFreeByte;
    FileRecordSegmentHeader at_slack = record.header;
    for (std::size_t at = divide_up(std::min(used, record.bytes.size()), kAlignment) * kAlignment;
         at + sizeof(AttributeRecordHeader) < record.bytes.size(); at += kAlignment) {
        if (record.bytes.u32le(at).value_or(0) != DATA) continue;
        at_slack.FirstAttributeOffset = static_cast<std::uint16_t>(at);
        const auto attribute = AttributeReader(record.bytes, at_slack).next();
        auto stream = attribute ? whole_content(*attribute, geometry) : std::nullopt;
        if (stream) found.push_back(std::move(*stream));
    }
    return found;
}

// Records of the log run on from page to page; between them stand only the pages' headers.
void LogCopies::read(const Medium& content, const Geometry& geometry) {
    std::vector<std::byte> page(kLogPage);
    std::vector<std::byte> stream;
    const std::uint64_t size = std::min(content.size(), kLargestLog);
    const auto search = [&](bool last) {
        const ByteView view(stream);
        std::size_t at = 0;
        for (; at + geometry.record_size <= stream.size() ||
               (last && at + sizeof(FileRecordSegmentHeader) < stream.size());
             at += kAlignment)
            if (view.has(at, "FILE"))
                take(*view.slice(at, std::min<std::size_t>(geometry.record_size, stream.size() - at)), geometry);
        stream.erase(stream.begin(), stream.begin() + static_cast<std::ptrdiff_t>(std::min(at, stream.size())));
    };
    for (std::uint64_t at = 0; at + kLogPage <= size; at += kLogPage) {
        std::vector<Extent> bad;
        const bool usable = content.read(at, page, &bad) && bad.empty() && ByteView(page).has(0, "RCRD") &&
                            apply_fixups(page) == kLogPage;
        if (usable) stream.insert(stream.end(), page.begin() + kLogPageHeader, page.end());
        if (!usable || stream.size() > (1U << 20U)) search(!usable);
        if (!usable) stream.clear();
    }
    search(true);
}

void LogCopies::take(ByteView copy, const Geometry& geometry) {
    const auto header = copy.as<FileRecordSegmentHeader>(0);
    if (!header || header->BytesAvailable != geometry.record_size || header->FirstFreeByte > copy.size() ||
        header->FirstAttributeOffset < sizeof(FileRecordSegmentHeader) || header->BaseFileRecordSegment.number() != 0)
        return;
    const Reference file{std::uint64_t{header->SegmentNumberHighPart} << 32U | header->SegmentNumberLowPart,
                         header->SequenceNumber};
    AttributeReader attributes(*copy.slice(0, header->FirstFreeByte), *header);
    while (const auto attribute = attributes.next()) {
        auto stream = whole_content(*attribute, geometry);
        if (!stream) continue;
        Copy& known = copies_[file];
        if (known.stream.size == 0 || known.sequence_number <= header->LogFileSequenceNumber)
            known = {header->LogFileSequenceNumber, std::move(*stream)};
        if (copies_.size() > kMaxCopies) copies_.erase(copies_.begin());
    }
}

const Stream* LogCopies::find(Reference file) const {
    const auto found = copies_.find(file);
    return found == copies_.end() ? nullptr : &found->second.stream;
}

}  // namespace dredger::ntfs
