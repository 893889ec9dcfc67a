// The messages and folders of a store ([MS-PST] 2.4).
#pragma once

#include <memory>
#include <optional>

#include "stores/mapi/message_of.h"
#include "stores/pst/heap.h"

namespace dredger::stores::pst {

struct Folder {
    std::uint32_t nid = 0, nidParent = 0;
    std::string name;
    std::optional<std::vector<std::uint32_t>> messages;  // that its contents table lists; none where that is damaged
};

class Messages {
  public:
    explicit Messages(const Database& database);

    // What is kept of the message in these blocks; none where it is no message, or its first block is lost.
    std::optional<mapi::KeptMessage> read(std::uint64_t bidData, std::uint64_t bidSub) const;
    // The same of one that no node tells of: where its subnodes lie follows from what fits.
    std::optional<mapi::KeptMessage> read_loose(std::uint64_t bidData) const;

    std::optional<Folder> folder(const Node& node) const;

    // Folders by the names of the store's own list.
    std::string store_name() const { return name_; }
    std::uint32_t top_folder() const { return top_; }      // all that people see lies in it; 0: not known
    std::uint32_t trash_folder() const { return trash_; }  // deleted items; 0: not known
    bool has_password() const { return has_password_; }    // of which only a checksum is kept
    const mapi::NamedTags& names() const { return names_; }

  private:
    void read_store_properties();
    void read_names();
    std::vector<std::uint64_t> subnodes_near(std::uint64_t bid) const;
    std::optional<mapi::KeptMessage> message_in(const NodeHeap& heap, unsigned depth) const;
    mapi::KeptAttachment attachment_in(const Node& node, unsigned depth, mapi::KeptMessage& message) const;

    const Database& database_;
    std::string name_;
    std::uint32_t top_ = 0, trash_ = 0;
    bool has_password_ = false;
    mapi::NamedTags names_;
};

}  // namespace dredger::stores::pst
