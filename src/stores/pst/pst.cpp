// Personal and offline stores (PST, OST) as a mail store.
#include <algorithm>
#include <fmt/format.h>
#include <functional>
#include <map>
#include <mutex>
#include <set>

#include "base/text.h"
#include "filesystems/tools/walking.h"
#include "stores/families.h"
#include "stores/pst/messages.h"
#include "stores/standing.h"
#include "stores/telling.h"

namespace dredger::stores {
namespace pst {
namespace {

constexpr std::uint64_t kLoose = std::uint64_t{1} << 49;  // of a message's number: it is a block's, not a node's
constexpr const char* kNoFolder = "(folder not known)";

class PstStore final : public MailStore {
  public:
    explicit PstStore(std::unique_ptr<Database> database) : database_(std::move(database)), messages_(*database_) {
        facts_.filesystem = "PST";
        facts_.label = messages_.store_name();
        facts_.size = database_->size();
        facts_.used = facts_.size;
        facts_.warnings = database_->warnings();
        if (messages_.has_password()) facts_.warnings.emplace_back("it has a password, which is not needed to read it");
        facts_.is_mountable = database_->is_whole();
    }

    const Database& database() const { return *database_; }
    const Messages& messages() const { return messages_; }

    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;

    MediumPtr composed(std::uint64_t number) const override {
        const auto message = message_of_key(message_of_number(number));
        return message ? part_of(*message, part_of_number(number)) : nullptr;
    }

    std::shared_ptr<const Message> message_of_key(std::uint64_t key) const {
        const std::lock_guard lock(mutex_);
        if (last_ && last_key_ == key) return last_;
        auto kept = kept_of(key);
        if (!kept) return nullptr;
        last_ = std::make_shared<const Message>(mapi::message_of(*kept, messages_.names()));
        last_key_ = key;
        return last_;
    }

  private:
    std::optional<mapi::KeptMessage> kept_of(std::uint64_t key) const {
        if ((key & kLoose) != 0) {
            database_->search_remains({});
            return messages_.read_loose(key & ~kLoose);
        }
        const auto nid = static_cast<std::uint32_t>(key);
        if (const Node* node = database_->find(nid)) return messages_.read(node->bidData, node->bidSub);
        database_->search_remains({});
        for (const Node& node : database_->former_nodes())
            if (node.nid == nid) return messages_.read(node.bidData, node.bidSub);
        return std::nullopt;
    }

    std::unique_ptr<Database> database_;
    Messages messages_;
    mutable std::mutex mutex_;
    mutable std::shared_ptr<const Message> last_;  // asked for once more for each of its attachments
    mutable std::uint64_t last_key_ = 0;
};

class PstWalk : Walking {
  public:
    PstWalk(const PstStore& store, const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings)
        : Walking(options, sink, warnings), store_(store), database_(store.database()) {}

    void run() {
        database_.search_remains([this](std::uint64_t done, std::uint64_t total) {
            return go_on("looking for deleted messages", done, total);
        });
        if (stopped_) return;
        learn_folders();
        tell_folders();
        for (const Node& node : database_.nodes()) tell_node(node, true);
        for (const Node& node : database_.former_nodes()) tell_node(node, false);
        for (const std::uint64_t bid : database_.loose_messages()) tell_loose(bid);
        warn_of(damaged_, "messages can't be read: the blocks that they begin in are lost");
    }

  private:
    void learn_folders() {
        const auto learn = [&](const Node& node) {
            if (type_of(node.nid) != NID_TYPE_NORMAL_FOLDER || folders_.contains(node.nid)) return;
            if (auto folder = store_.messages().folder(node)) folders_.emplace(node.nid, std::move(*folder));
        };
        for (const Node& node : database_.nodes()) learn(node);
        for (const auto& [nid, folder] : folders_) live_folders_.insert(nid);
        for (const Node& node : database_.former_nodes()) learn(node);
        trash_ = find_trash();
    }

    void tell_folders() {
        for (const std::uint32_t nid : live_folders_) {
            const std::string path = path_of(nid);
            if (path != store_.root()) emit(folder_record(path, nid));
        }
    }

    // From the folder that people take for the top down.
    std::string path_of(std::uint32_t nid) {
        std::string path;
        std::set<std::uint32_t> seen;
        while (nid != store_.messages().top_folder() && nid != NID_ROOT_FOLDER && seen.insert(nid).second) {
            const auto folder = folders_.find(nid);
            if (folder == folders_.end()) {
                path = joined(kNoFolder, path);
                break;
            }
            std::string name =
                printable(folder->second.name.empty() ? fmt::format("folder {:#x}", nid) : folder->second.name);
            std::replace(name.begin(), name.end(), '/', '_');
            path = path.empty() ? name : joined(name, path);
            nid = folder->second.nidParent;
        }
        return path.empty() ? store_.root() : joined(store_.root(), path);
    }

    // Offline stores don't tell which one it is.
    std::uint32_t find_trash() const {
        const std::uint32_t told = store_.messages().trash_folder();
        if (folders_.contains(told)) return told;
        for (const auto& [nid, folder] : folders_)
            if (folder.nidParent == store_.messages().top_folder() && is_trash_name(folder.name)) return nid;
        return 0;
    }

    // Where servers keep what was deleted for good, for some weeks.
    static bool is_recoverable(const Folder& folder) { return folded(folder.name) == "recoverable items"; }

    bool lies_below(std::uint32_t nid, const std::function<bool(const Folder&)>& is_it) {
        std::set<std::uint32_t> seen;
        for (auto folder = folders_.find(nid); folder != folders_.end() && seen.insert(nid).second;
             folder = folders_.find(nid)) {
            if (is_it(folder->second)) return true;
            nid = folder->second.nidParent;
        }
        return false;
    }

    void tell_node(const Node& node, bool is_current) {
        if (type_of(node.nid) != NID_TYPE_NORMAL_MESSAGE || stopped_) return;
        Found found;
        found.folder = path_of(node.nidParent);
        found.identity.number = node.nid;
        const auto folder = folders_.find(node.nidParent);
        const bool is_listed =
            folder == folders_.end() || !folder->second.messages ||
            std::binary_search(folder->second.messages->begin(), folder->second.messages->end(), node.nid);
        found.state = State::live;
        if (is_listed && is_current && lies_below(node.nidParent, is_recoverable)) {
            found.state = State::deleted;
            found.notes.emplace_back(
                "it was deleted from the folder for deleted items, too, and is kept to be recovered");
        } else if (!is_current || !is_listed) {
            found.state = State::deleted;
            found.notes.emplace_back(is_current ? "its folder does not list it any more"
                                                : "the store's table of today does not list it any more");
        } else if (lies_below(node.nidParent, [this](const Folder& one) { return one.nid == trash_; })) {
            found.state = State::trashed;
        }
        if (!is_current) found.origin = Origin::remnant;
        tell_kept(store_.messages().read(node.bidData, node.bidSub), found, node.nid);
    }

    void tell_loose(std::uint64_t bid) {
        if (stopped_) return;
        const auto kept = store_.messages().read_loose(bid);
        if (!kept) return;
        Found found;
        found.folder = joined(store_.root(), kNoFolder);
        found.identity.number = kLoose | bid;
        found.state = State::lost;
        found.origin = Origin::remnant;
        found.notes.emplace_back("no table tells of it: which folder it lay in is not known");
        tell_kept(kept, found, kLoose | bid);
    }

    void tell_kept(const std::optional<mapi::KeptMessage>& kept, const Found& found, std::uint64_t key) {
        if (!kept) {
            ++damaged_;
            return;
        }
        const Message message = mapi::message_of(*kept, store_.messages().names());
        const bool is_new = known_.insert(key_of(message)).second;
        // What lies somewhere else as well needs not be told again from what is left of it.
        const bool is_listed = found.state == State::live || found.state == State::trashed;
        if (!is_new && !(is_listed && database_.is_whole())) return;
        go_on("reading messages", ++told_, database_.nodes().size());
        (void)tell(message, found, key, std::nullopt, [this](Record&& record) {
            emit(std::move(record));
            return !stopped_;
        });
    }

    // By which a message is the same wherever it lies.
    static std::string key_of(const Message& message) {
        const std::string when = message.sent      ? iso8601(*message.sent)
                                 : message.created ? iso8601(*message.created)
                                                   : "";
        return fmt::format("{}\n{}\n{}\n{}\n{}", message.id, message.subject, when, message.from.text(),
                           message.id.empty() ? message.plain.size() + message.html.size() : 0);
    }

    const PstStore& store_;
    const Database& database_;
    std::map<std::uint32_t, Folder> folders_;
    std::set<std::uint32_t> live_folders_;
    std::set<std::string> known_;
    std::uint32_t trash_ = 0;  // the folder for deleted items; 0: not known
    std::uint64_t told_ = 0, damaged_ = 0;
};

Result<void> PstStore::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const {
    PstWalk(*this, options, sink, warnings).run();
    return {};
}

}  // namespace
}  // namespace pst

Result<std::unique_ptr<MailStore>> open_pst(MediumPtr file, bool is_told) {
    DREDGER_TRY(std::unique_ptr<pst::Database> database, pst::Database::open(std::move(file), is_told));
    if (!database) return nullptr;
    return std::make_unique<pst::PstStore>(std::move(database));
}

}  // namespace dredger::stores
