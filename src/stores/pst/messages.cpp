#include "stores/pst/messages.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/text.h"
#include "stores/mapi/names.h"

namespace dredger::stores::pst {
namespace {

using namespace mapi;

constexpr unsigned kMaxNested = 8;             // messages within messages
constexpr std::uint64_t kNearSubnodes = 2048;  // ids of blocks between a message and its subnodes
constexpr std::ptrdiff_t kNeighbours = 8;      // of them, before and behind
constexpr std::int64_t kEmbeddedMessage = 5;   // of PidTagAttachMethod
constexpr std::int64_t kAssociated = 0x40;     // mfFAI of PidTagMessageFlags

// The node of an EntryID of the store's own (2.4.3.2).
std::uint32_t node_of_entry(const std::string& entry) {
    return entry.size() < 24 ? 0 : view_of(entry).u32le(20).value_or(0);
}

// How well these recipients go with those that the message shows.
enum class Shown { not_these, as_many, by_name };

Shown as_shown(const Properties& message, const std::vector<Properties>& recipients) {
    std::string shown;
    std::ptrdiff_t count = 0;
    for (const std::uint16_t tag : {PidTagDisplayTo, PidTagDisplayCc, PidTagDisplayBcc}) {
        const std::string names = folded(message.text(tag));
        if (!names.empty()) count += 1 + std::count(names.begin(), names.end(), ';');
        shown += names + ";";
    }
    const bool all_named =
        !recipients.empty() && std::all_of(recipients.begin(), recipients.end(), [&](const Properties& one) {
            const std::string name = folded(one.text(PidTagDisplayName));
            return !name.empty() && shown.find(name) != std::string::npos;
        });
    if (all_named) return Shown::by_name;
    return count == std::ssize(recipients) ? Shown::as_many : Shown::not_these;
}

}  // namespace

Messages::Messages(const Database& database) : database_(database) {
    read_store_properties();
    read_names();
}

void Messages::read_store_properties() {
    const Node* node = database_.find(NID_MESSAGE_STORE);
    if (node == nullptr) return;
    const Properties p = properties_of(NodeHeap(database_, node->bidData, node->bidSub));
    name_ = p.text(PidTagDisplayName);
    has_password_ = !database_.is_offline() && p.number(PidTagPstPassword).value_or(0) != 0;
    top_ = node_of_entry(p.bytes(PidTagIpmSubTreeEntryId));
    // Offline stores tell of another one, and name the folder so.
    for (const Node& one : database_.nodes()) {
        if (type_of(one.nid) != NID_TYPE_NORMAL_FOLDER) continue;
        const auto named = folder(one);
        if (named && named->name == "IPM_SUBTREE") top_ = one.nid;
    }
    trash_ = node_of_entry(p.bytes(PidTagIpmWastebasketEntryId));
}

// 2.4.7. Where its node is lost it is known by what it has.
void Messages::read_names() {
    constexpr std::uint16_t kGuidStream = 0x0002, kEntryStream = 0x0003;
    const auto learn = [&](const Properties& p) {
        if (p.has(PidTagMessageClass) || !p.has(kGuidStream) || !p.has(kEntryStream)) return false;
        names_ = named_tags(p.bytes(kGuidStream), p.bytes(kEntryStream));
        return !names_.empty();
    };
    const Node* node = database_.find(NID_NAME_TO_ID_MAP);
    if (node != nullptr && learn(properties_of(NodeHeap(database_, node->bidData, node->bidSub)))) return;
    for (const std::uint64_t bid : database_.loose_messages()) {
        if (learn(properties_of(NodeHeap(database_, bid, 0)))) return;
        for (const std::uint64_t sub : subnodes_near(bid))
            if (learn(properties_of(NodeHeap(database_, bid, sub)))) return;
    }
}

// The nearest first: what is written together gets ids that follow one another.
std::vector<std::uint64_t> Messages::subnodes_near(std::uint64_t bid) const {
    const auto& subnodes = database_.loose_subnodes();
    const auto from = std::lower_bound(subnodes.begin(), subnodes.end(), bid);
    std::vector<std::uint64_t> near(from, subnodes.end() - from > kNeighbours ? from + kNeighbours : subnodes.end());
    near.insert(near.end(), from - subnodes.begin() > kNeighbours ? from - kNeighbours : subnodes.begin(), from);
    const auto distance = [&](std::uint64_t other) { return other > bid ? other - bid : bid - other; };
    std::sort(near.begin(), near.end(), [&](std::uint64_t a, std::uint64_t b) { return distance(a) < distance(b); });
    std::erase_if(near, [&](std::uint64_t other) { return distance(other) > kNearSubnodes; });
    return near;
}

std::optional<KeptMessage> Messages::read(std::uint64_t bidData, std::uint64_t bidSub) const {
    return message_in(NodeHeap(database_, bidData, bidSub), kMaxNested);
}

std::optional<KeptMessage> Messages::read_loose(std::uint64_t bidData) const {
    auto alone = read(bidData, 0);
    if (!alone || !alone->properties.has(PidTagMessageClass)) return std::nullopt;
    // What a mail program keeps as a message for itself.
    if ((alone->properties.number(PidTagMessageFlags).value_or(0) & kAssociated) != 0) return std::nullopt;
    bool is_nearest = true;
    for (const std::uint64_t sub : subnodes_near(bidData)) {
        auto tried = read(bidData, sub);
        // What the message lacks, or whom it went to, stands there. Further off only names tell that it is its own.
        const bool helps = tried && (!tried->recipients.empty() || tried->missing.size() < alone->missing.size());
        const Shown shown = helps ? as_shown(tried->properties, tried->recipients) : Shown::not_these;
        if (shown == Shown::by_name || (shown == Shown::as_many && is_nearest)) return tried;
        is_nearest = false;
    }
    if (alone->properties.is_set(PidTagHasAttachments))
        alone->missing.emplace_back("its attachments can't be told from those of others");
    return alone;
}

std::optional<KeptMessage> Messages::message_in(const NodeHeap& heap, unsigned depth) const {
    if (!heap.is(bTypePC) || depth == 0) return std::nullopt;
    KeptMessage message;
    message.properties = properties_of(heap);
    if (message.properties.empty()) return std::nullopt;
    const auto& subnodes = heap.subnodes();
    if (const auto table = subnodes.find(NID_RECIPIENT_TABLE); table != subnodes.end()) {
        const NodeHeap rows(database_, table->second.bidData, table->second.bidSub);
        for (Row& row : rows_of(rows)) {
            row.properties.set_code_page(message.properties.code_page());
            message.recipients.push_back(std::move(row.properties));
        }
        if (!rows.was_whole()) message.missing.emplace_back("some of its recipients can't be read");
    }
    std::size_t attached = 0;
    for (const auto& [nid, node] : subnodes) {
        if (type_of(nid) != NID_TYPE_ATTACHMENT) continue;
        ++attached;
        message.attachments.push_back(attachment_in(node, depth, message));
    }
    if (const auto table = subnodes.find(NID_ATTACHMENT_TABLE); table != subnodes.end()) {
        const std::size_t listed = row_ids(NodeHeap(database_, table->second.bidData, table->second.bidSub)).size();
        if (listed > attached)
            message.missing.push_back(fmt::format("{} of its attachments can't be had", listed - attached));
    }
    if (!heap.was_whole()) message.missing.emplace_back("a part of what the store keeps of it is lost");
    return message;
}

KeptAttachment Messages::attachment_in(const Node& node, unsigned depth, KeptMessage& message) const {
    const NodeHeap heap(database_, node.bidData, node.bidSub);
    KeptAttachment attachment;
    attachment.properties = properties_of(heap);
    attachment.properties.set_code_page(message.properties.code_page());
    if (attachment.properties.empty())
        message.missing.emplace_back("one of its attachments can't be had");
    else if (!heap.was_whole())
        message.missing.emplace_back("a part of one of its attachments is lost");
    if (attachment.properties.number(PidTagAttachMethod) == kEmbeddedMessage) {
        const auto object = view_of(attachment.properties.bytes(PidTagAttachDataBinary)).u32le(0);
        const auto within = heap.subnodes().find(object.value_or(0));
        std::optional<KeptMessage> embedded;
        if (within != heap.subnodes().end())
            embedded = message_in(NodeHeap(database_, within->second.bidData, within->second.bidSub), depth - 1);
        if (embedded)
            attachment.embedded = std::make_shared<const KeptMessage>(std::move(*embedded));
        else
            message.missing.emplace_back("a message that is attached to it can't be had");
    }
    return attachment;
}

std::optional<Folder> Messages::folder(const Node& node) const {
    const Properties p = properties_of(NodeHeap(database_, node.bidData, node.bidSub));
    if (p.empty()) return std::nullopt;
    Folder folder{node.nid, node.nidParent, p.text(PidTagDisplayName), std::nullopt};
    const Node* table = database_.find((node.nid & ~0x1FU) | NID_TYPE_CONTENTS_TABLE);
    if (table == nullptr) return folder;
    const NodeHeap heap(database_, table->bidData, table->bidSub);
    if (!heap.is(bTypeTC)) return folder;
    std::vector<std::uint32_t> ids = row_ids(heap);
    if (!heap.was_whole()) return folder;
    std::sort(ids.begin(), ids.end());
    folder.messages = std::move(ids);
    return folder;
}

}  // namespace dredger::stores::pst
