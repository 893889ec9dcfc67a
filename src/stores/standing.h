// Stores in which each message stands as it travelled: mailboxes, message files, chains of segments.
#pragma once

#include <mutex>

#include "stores/store.h"
#include "stores/telling.h"

namespace dredger::stores {

class StandingStore : public MailStore {
  public:
    explicit StandingStore(MediumPtr file, const char* name);

    struct Standing {
        std::uint64_t number = 0;   // by which it is found again
        std::vector<Extent> where;  // in the store, in order
        std::string folder = {};    // that it lies in, below the root
        State state = State::live;
        Origin origin = Origin::record;
        std::vector<std::string> notes;
        bool is_whole = true;  // all of it stands there
        // What was attached to it and is kept in files of its own: names, and places in the store.
        std::vector<std::pair<std::string, Extent>> beside = {};
    };
    // Every message, in order; false from the sink: no more are wanted. Progress is told in bytes.
    using Sink = std::function<bool(Standing&&, std::uint64_t done)>;
    virtual void each(const Sink& sink) const = 0;
    // The one of this number; none where there is none.
    virtual std::optional<Standing> find(std::uint64_t number) const = 0;

    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;
    MediumPtr composed(std::uint64_t number) const override;

  protected:
    const MediumPtr& file() const { return file_; }

  private:
    std::optional<Message> read(const Standing& standing) const;
    // False: nobody wants more.
    bool tell_standing(const Standing& standing, const Message& message, RecordSink& sink) const;

    MediumPtr file_;
    mutable std::mutex mutex_;
    mutable std::optional<std::uint64_t> last_number_;
    mutable std::shared_ptr<const Message> last_;
};

// Whether a folder or mailbox of this name is where people put what they delete.
bool is_trash_name(std::string_view name);

}  // namespace dredger::stores
