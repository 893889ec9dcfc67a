#include "stores/standing.h"

#include <algorithm>
#include <array>
#include <set>

#include "base/text.h"
#include "media/content.h"
#include "stores/internet_message.h"
#include "stores/mapi/properties.h"

namespace dredger::stores {
namespace {

constexpr std::size_t kMostRead = 256 << 20;  // bytes of one message

}  // namespace

bool is_trash_name(std::string_view name) {
    constexpr std::array<std::string_view, 6> kNames = {"trash",   "deleted items", "deleted messages",
                                                        "deleted", "papierkorb",    "deleted objects"};
    const std::string small = folded(name);
    return std::find(kNames.begin(), kNames.end(), small) != kNames.end();
}

StandingStore::StandingStore(MediumPtr file, const char* name) : file_(std::move(file)) {
    facts_.filesystem = name;
    facts_.size = facts_.used = file_->size();
}

std::optional<Message> StandingStore::read(const Standing& standing) const {
    const Content content(file_, standing.where);
    bool whole = true;
    return read_internet_message(mapi::all_of(content, kMostRead, whole));
}

bool StandingStore::tell_standing(const Standing& standing, const Message& message, RecordSink& sink) const {
    Found found;
    found.folder = standing.folder.empty() ? root() : joined(root(), standing.folder);
    const bool is_trash = is_trash_name(split_path(found.folder).name);
    found.identity.number = standing.number;
    found.state = standing.state == State::live && is_trash ? State::trashed : standing.state;
    found.origin = standing.origin;
    found.notes = standing.notes;
    VolumeLayout layout;
    layout.lay(standing.where);
    layout.within_records = true;  // nothing takes its place as long as the store stands
    const auto emit = [&](Record&& record) { return sink.take(std::move(record)); };
    if (!tell(message, found, standing.number, layout, emit)) return false;
    const std::string name = file_name_of(message);
    for (const auto& [part, place] : standing.beside) {
        Record record;
        record.identity = found.identity;
        record.identity.generation = place.offset;
        record.folder = joined(found.folder, name.substr(0, name.rfind('.')));
        record.name = part;
        record.state = found.state;
        record.modified = message.sent;
        record.size = place.length;
        record.layout.lay({place});
        record.layout.within_records = true;
        record.facts.push_back({"attached to", joined(found.folder, name)});
        if (!emit(std::move(record))) return false;
    }
    return true;
}

// What is still there comes first: a message that was only moved is not told again from where it was.
Result<void> StandingStore::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>&) const {
    std::set<std::string> known;  // ids of messages
    std::vector<Standing> others;
    bool goes_on = true;
    const auto take = [&](const Standing& standing) {
        auto message = read(standing);
        if (!message) return true;
        const bool is_new = message->id.empty() || known.insert(message->id).second;
        if (!is_new && standing.state == State::deleted) return true;
        if (!standing.is_whole) message->missing.emplace_back("its end is missing");
        // In its place there is only an empty part.
        if (!standing.beside.empty())
            std::erase_if(message->attachments,
                          [](const Attachment& one) { return one.content && one.content->size() == 0; });
        return goes_on = tell_standing(standing, *message, sink);
    };
    each([&](Standing&& standing, std::uint64_t done) {
        if (options.go_on && !options.go_on("reading messages", done, file_->size())) return goes_on = false;
        if (standing.state != State::deleted) return take(standing);
        others.push_back(std::move(standing));
        return true;
    });
    for (std::size_t n = 0; n < others.size() && goes_on; ++n) take(others[n]);
    return {};
}

MediumPtr StandingStore::composed(std::uint64_t number) const {
    const std::lock_guard lock(mutex_);
    const std::uint64_t message = message_of_number(number);
    if (last_number_ != message) {
        const auto standing = find(message);
        auto told = standing ? read(*standing) : std::nullopt;
        if (!told) return nullptr;
        last_ = std::make_shared<const Message>(std::move(*told));
        last_number_ = message;
    }
    return part_of_number(number) == 0 ? nullptr : part_of(*last_, part_of_number(number));
}

}  // namespace dredger::stores
