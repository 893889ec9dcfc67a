#include "filesystems/ntfs/usn_journal.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>

#include "base/bytes.h"
#include "base/text.h"

namespace dredger::ntfs {
namespace {

constexpr std::size_t kReadAtOnce = 1 << 20;    // bytes
constexpr std::size_t kLongestRecord = 65'536;  // bytes
constexpr std::size_t kMaxDeletions = 200'000;  // of a journal of usual size a tenth are
constexpr std::size_t kMaxFiles = 500'000;      // with events
constexpr std::size_t kMaxEvents = 16;          // of a file, the last ones

std::string words_for(const UsnJournal::Event& event) {
    std::vector<std::string> words;
    if ((event.reason & USN_REASON_FILE_CREATE) != 0) words.emplace_back("created");
    if ((event.reason & (USN_REASON_DATA_OVERWRITE | USN_REASON_DATA_EXTEND | USN_REASON_DATA_TRUNCATION)) != 0)
        words.emplace_back("written");
    if ((event.reason & USN_REASON_RENAME_NEW_NAME) != 0) words.push_back("renamed to " + event.name);
    if ((event.reason & USN_REASON_FILE_DELETE) != 0) words.emplace_back("deleted");
    return fmt::format("{}", fmt::join(words, ", "));
}

}  // namespace

void UsnJournal::read(const Medium& content) {
    std::vector<std::byte> chunk(kReadAtOnce);
    for (std::uint64_t at = 0; at < content.size();) {
        const auto part = std::span(chunk).first(
            static_cast<std::size_t>(std::min<std::uint64_t>(chunk.size(), content.size() - at)));
        std::vector<Extent> bad;
        if (!content.read(at, part, &bad)) return;
        const ByteView view(part);
        std::size_t done = 0;
        while (done + sizeof(UsnRecordV2) <= view.size()) {
            const auto record = view.as<UsnRecordV2>(done);
            const std::uint32_t length = record->RecordLength;
            // Records don't cross pages; the rest of a page is zeros.
            const bool makes_sense = length >= sizeof(UsnRecordV2) && length % 8 == 0 && length <= kLongestRecord &&
                                     record->MajorVersion == 2;
            if (!makes_sense) {
                done += 8;
                continue;
            }
            if (length > view.size() - done) break;
            constexpr std::uint32_t kTold = USN_REASON_FILE_CREATE | USN_REASON_DATA_OVERWRITE |
                                            USN_REASON_DATA_EXTEND | USN_REASON_DATA_TRUNCATION |
                                            USN_REASON_RENAME_NEW_NAME | USN_REASON_FILE_DELETE;
            // Until a file is closed, each record repeats what the earlier ones told.
            if ((record->Reason & USN_REASON_CLOSE) != 0 && (record->Reason & kTold) != 0) {
                const auto when = windows_time(record->TimeStamp);
                const auto name = view.slice(done + record->FileNameOffset, record->FileNameLength);
                const Reference file = reference_of(record->FileReferenceNumber);
                if (when && name && (events_.size() < kMaxFiles || events_.contains(file))) {
                    auto& events = events_[file];
                    if (events.size() == kMaxEvents) events.erase(events.begin());
                    events.push_back({*when, record->Reason, utf16le_to_utf8(name->bytes())});
                }
            }
            if ((record->Reason & USN_REASON_FILE_DELETE) != 0) {
                const auto name = view.slice(done + record->FileNameOffset, record->FileNameLength);
                const auto when = windows_time(record->TimeStamp);
                const bool fits = std::size_t{record->FileNameOffset} + record->FileNameLength <= length;
                if (name && when && fits && deletions_.size() < kMaxDeletions) {
                    constexpr std::uint32_t kDirectory = 0x10;  // FILE_ATTRIBUTE_DIRECTORY
                    deletions_.insert_or_assign(
                        reference_of(record->FileReferenceNumber),
                        Deletion{*when, reference_of(record->ParentFileReferenceNumber), utf16le_to_utf8(name->bytes()),
                                 (record->FileAttributes & kDirectory) != 0});
                }
            }
            done += length;
        }
        // A record that begins at the end of this part is read with the next.
        at += done > 0 ? done : part.size();
        if (part.size() < chunk.size()) return;
    }
}

std::vector<std::string> UsnJournal::history_of(Reference file) const {
    std::vector<std::string> lines;
    const auto found = events_.find(file);
    if (found == events_.end()) return lines;
    for (const Event& event : found->second) {
        std::string when = iso8601(event.when).substr(0, 19);
        std::replace(when.begin(), when.end(), 'T', ' ');
        lines.push_back(fmt::format("{} {}", when, words_for(event)));
    }
    return lines;
}

const UsnJournal::Deletion* UsnJournal::find(Reference file) const {
    const auto found = deletions_.find(file);
    return found == deletions_.end() ? nullptr : &found->second;
}

}  // namespace dredger::ntfs
