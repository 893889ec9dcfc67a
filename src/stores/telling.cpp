#include "stores/telling.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/text.h"
#include "stores/composing.h"

namespace dredger::stores {
namespace {

constexpr std::size_t kMaxSubject = 100;  // bytes of a file's name
constexpr std::uint64_t kReadTogether = 1 << 20;

// A part of a name that can't lead elsewhere, nor is empty.
std::string as_name(std::string_view text, const char* otherwise) {
    std::string name = printable(composed(text));
    std::replace(name.begin(), name.end(), '/', '_');
    std::replace(name.begin(), name.end(), '\\', '_');
    const std::string_view kBlank = " .";
    const std::size_t from = std::min(name.find_first_not_of(' '), name.size());
    const std::size_t to = name.find_last_not_of(kBlank);
    name = to == std::string::npos || to < from ? "" : name.substr(from, to - from + 1);
    return name.empty() ? otherwise : name;
}

std::string cut_to(std::string text, std::size_t most) {
    if (text.size() <= most) return text;
    while (most > 0 && (static_cast<unsigned char>(text[most]) & 0xC0U) == 0x80) --most;
    text.resize(most);
    return text.substr(0, text.find_last_not_of(' ') + 1);
}

void add_fact(FileEntry& entry, const char* name, const std::string& value) {
    if (!value.empty()) entry.facts.push_back({name, valid_utf8(value)});
}

// How much of it can't be read; all of it is read for that.
std::uint64_t unreadable_in(const Medium& content) {
    std::vector<std::byte> buffer(static_cast<std::size_t>(std::min(content.size(), kReadTogether)));
    std::uint64_t lost = 0;
    for (std::uint64_t at = 0; at < content.size(); at += buffer.size()) {
        const auto part = std::span(buffer).first(
            static_cast<std::size_t>(std::min<std::uint64_t>(buffer.size(), content.size() - at)));
        std::vector<Extent> bad;
        if (!content.read(at, part, &bad)) return content.size() - at + lost;
        for (const Extent& one : bad) lost += one.length;
    }
    return lost;
}

}  // namespace

MediumPtr part_of(const Message& message, std::size_t part) {
    if (part == 0) return compose(message);
    if (part > message.attachments.size()) return nullptr;
    const Attachment& attachment = message.attachments[part - 1];
    return attachment.embedded ? compose(*attachment.embedded) : attachment.content;
}

std::string file_name_of(const Message& message) {
    const auto when = message.is == Message::Is::contact || message.is == Message::Is::note ? std::nullopt
                      : message.begins                                                      ? message.begins
                      : message.sent                                                        ? message.sent
                      : message.received                                                    ? message.received
                                                                                            : message.created;
    const std::string day = when ? iso8601(*when).substr(0, 10) + " " : "";
    const std::string subject = cut_to(as_name(message.subject, "(no subject)"), kMaxSubject);
    return fmt::format("{}{}.{}", day, subject, message.card.empty() ? "eml" : message.card_extension);
}

bool tell(const Message& message, const Found& found, std::uint64_t number, const std::optional<VolumeLayout>& as_it_is,
          const std::function<bool(Record&&)>& emit) {
    Record record;
    record.identity = found.identity;
    record.folder = found.folder;
    record.name = file_name_of(message);
    record.state = found.state;
    record.origin = found.origin;
    record.modified = message.sent ? message.sent : message.received ? message.received : message.changed;
    record.created = message.received ? message.received : message.created;
    record.notes = found.notes;
    add_fact(record, "subject", message.subject);
    add_fact(record, "from", message.from.text());
    for (const Recipient& recipient : message.recipients) {
        constexpr const char* kFields[] = {"to", "cc", "bcc"};
        add_fact(record, kFields[static_cast<std::size_t>(recipient.as)], recipient.text());
    }
    if (message.sent) add_fact(record, "sent", iso8601(*message.sent));
    if (message.received) add_fact(record, "received", iso8601(*message.received));
    add_fact(record, "message id", message.id);
    if (!message.attachments.empty()) add_fact(record, "attachments", std::to_string(message.attachments.size()));
    if (message.is_draft) add_fact(record, "draft", "never sent");
    if (message.is_signed) add_fact(record, "signed", "S/MIME; kept as it is");
    if (message.is_encrypted) add_fact(record, "encrypted", "S/MIME; kept as it is");
    if (!as_it_is && message.card.empty())
        add_fact(record, "header", message.headers.empty() ? "rebuilt from the store's fields" : "as it was received");

    std::vector<std::string> missing = message.missing;
    for (std::size_t n = 0; n < message.attachments.size(); ++n) {
        const Attachment& attachment = message.attachments[n];
        if (!attachment.is_there())
            missing.push_back(fmt::format("its attachment {} can't be had", printable(attachment.name)));
    }
    const std::string stem = record.name.substr(0, record.name.rfind('.'));
    std::vector<Record> attached;
    for (std::size_t n = 0; n < message.attachments.size() && n + 1 < (std::size_t{1} << kPartBits); ++n) {
        const Attachment& attachment = message.attachments[n];
        const MediumPtr content = part_of(message, n + 1);
        if (!content) continue;
        Record part;
        part.identity = found.identity;
        part.identity.generation = n + 1;
        part.folder = joined(found.folder, stem);
        part.name = as_name(attachment.name, fmt::format("attachment {}", n + 1).c_str());
        if (attachment.embedded && !part.name.ends_with(".eml")) part.name += ".eml";
        part.state = found.state;
        part.origin = found.origin;
        part.modified = record.modified;
        part.created = record.created;
        part.size = content->size();
        part.layout.within_records = true;
        part.layout.extents = {Extent{number_of(number, n + 1), part.size, Held::composed}};
        add_fact(part, "attached to", record.path());
        add_fact(part, "from", message.from.text());
        const std::uint64_t lost = attachment.embedded ? 0 : unreadable_in(*content);
        if (!attachment.is_whole) {
            part.trust = LayoutTrust::damaged;
            part.notes.emplace_back("not all of it can be had");
            missing.push_back(fmt::format("a part of its attachment {} can't be had", part.name));
        } else if (lost > 0) {
            part.trust = LayoutTrust::damaged;
            part.notes.push_back(fmt::format("{} of its {} bytes can't be had", lost, part.size));
            missing.push_back(fmt::format("{} bytes of its attachment {} can't be had", lost, part.name));
        }
        attached.push_back(std::move(part));
    }
    if (as_it_is) {
        record.layout = *as_it_is;
        for (const LayoutExtent& extent : record.layout.extents) record.size += extent.content();
    } else {
        record.size = compose(message)->size();
        record.layout.within_records = true;
        record.layout.extents = {Extent{number_of(number, 0), record.size, Held::composed}};
    }
    if (!missing.empty()) {
        record.trust = LayoutTrust::damaged;
        record.notes.insert(record.notes.end(), missing.begin(), missing.end());
    }
    if (!emit(std::move(record))) return false;
    return std::all_of(attached.begin(), attached.end(), [&](Record& part) { return emit(std::move(part)); });
}

Record folder_record(const std::string& path, std::uint64_t number) {
    Record record;
    const SplitPath split = split_path(path);
    record.folder = split.folder;
    record.name = split.name;
    record.identity.number = number;
    record.is_folder = true;
    return record;
}

}  // namespace dredger::stores
