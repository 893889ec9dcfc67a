#include "stores/standing.h"

#include <algorithm>
#include <array>

#include "base/text.h"
#include "media/content.h"
#include "stores/internet_message.h"

namespace dredger::stores {
namespace {

constexpr std::size_t kMostRead = 256 << 20;  // bytes of one message

std::string bytes_of(const Medium& content) {
    std::string bytes(static_cast<std::size_t>(std::min<std::uint64_t>(content.size(), kMostRead)), '\0');
    std::vector<Extent> bad;
    (void)content.read(0, std::as_writable_bytes(std::span(bytes)), &bad);
    return bytes;
}

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
    return read_internet_message(bytes_of(content));
}

Result<void> StandingStore::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>&) const {
    bool goes_on = true;
    each([&](Standing&& standing, std::uint64_t done) {
        if (options.go_on && !options.go_on("reading messages", done, file_->size())) return false;
        auto message = read(standing);
        if (!message) return true;
        if (!standing.is_whole) message->missing.emplace_back("its end is missing");
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
        goes_on = tell(*message, found, standing.number, layout,
                       [&](Record&& record) { return sink.take(std::move(record)); });
        return goes_on;
    });
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
