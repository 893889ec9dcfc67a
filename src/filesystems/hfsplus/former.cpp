#include "filesystems/hfsplus/former.h"

#include <algorithm>
#include <set>

#include "volumes/trace.h"

namespace dredger::hfsplus {
namespace {

constexpr std::size_t kMostItems = 2'000'000, kMostLinks = 8;
constexpr std::uint64_t kAtOnce = 1 << 20;                         // bytes read together
constexpr std::uint64_t kMostGround = std::uint64_t{1} << 30;      // bytes of free ground that are looked at
constexpr std::uint64_t kLargestJournal = std::uint64_t{1} << 30;  // bytes

bool is_trash(const Link& link, const std::map<std::uint32_t, FormerItem>& items) {
    const auto folder = items.find(link.parent);
    if (folder == items.end()) return false;
    return std::any_of(folder->second.links.begin(), folder->second.links.end(),
                       [](const Link& one) { return one.name == ".Trash" || one.name == ".Trashes"; });
}

}  // namespace

const FormerItem* Former::item(std::uint32_t id) const {
    const auto found = items_.find(id);
    return found == items_.end() ? nullptr : &found->second;
}

bool Former::read(const Trees& trees, const std::function<bool(const char*, std::uint64_t, std::uint64_t)>& go_on) {
    go_on_ = go_on;
    node_size_ = trees.catalog.node_size();
    for (const Btree* tree : {&trees.catalog, &trees.extents, &trees.attributes}) read_tree(*tree);
    const bool whole = read_journal() && read_free_ground();
    settle_ends();
    return whole;
}

// What stands in the nodes that a tree has, beside their records, and all of those that it has given back.
void Former::read_tree(const Btree& tree) {
    for (std::uint64_t number = 1; number < tree.nodes(); ++number) {
        const auto node = tree.read(number);
        if (!node || node->descriptor().kind != kLeafNode) continue;
        if (tree.is_used(number))
            read_area(node->free_space(), false);
        else
            read_node(*node, false);
    }
}

void Former::read_node(const Node& node, bool in_journal) { read_area(node.all_records(), in_journal); }

void Former::read_area(ByteView area, bool in_journal) {
    if (area.is_uniform()) return;
    carve_catalog(area, geometry_, [&](CatalogRecord&& record) { take(std::move(record), in_journal); });
    extents_.carve(area, geometry_);
    attributes_.carve(area, geometry_);
}

// Leaves that begin at every `step` bytes.
void Former::look_for_nodes(std::span<const std::byte> bytes, std::uint64_t from, std::size_t step, bool in_journal) {
    for (std::size_t at = 0; at + node_size_ <= bytes.size(); at += step) {
        const auto descriptor = *ByteView(bytes).as<NodeDescriptor>(at);
        if (descriptor.kind != kLeafNode || descriptor.height != 1 || descriptor.reserved != 0) continue;
        const auto there = bytes.subspan(at, node_size_);
        const auto node = Node::parse({there.begin(), there.end()}, from + at);
        if (node) read_node(*node, in_journal);
    }
}

// The journal keeps whole blocks of the trees, each in sectors of its own, so that nothing else of it has to be
// understood to find them: neither who wrote it in which order of bytes, nor where its transactions begin.
bool Former::read_journal() {
    constexpr std::size_t kSector = 512;
    if (geometry_.journal_info_block == 0 || node_size_ == 0) return true;
    const auto bytes = bytes_at(*volume_, geometry_.place_of(geometry_.journal_info_block), sizeof(JournalInfoBlock));
    if (!bytes) return true;
    const auto info = ByteView(*bytes).as<JournalInfoBlock>(0);
    if ((info->flags & kJournalInFS) == 0) return true;
    const auto start = checked_add(geometry_.base, info->offset);
    if (!start || *start >= volume_->size()) return true;
    const std::uint64_t size = std::min({info->size.value(), volume_->size() - *start, kLargestJournal});
    for (std::uint64_t at = 0; at < size; at += kAtOnce) {
        if (go_on_ && !go_on_("reading the journal", at, size)) return false;
        const std::uint64_t length = std::min(kAtOnce + node_size_ - kSector, size - at);
        const auto part = bytes_at(*volume_, *start + at, static_cast<std::size_t>(length));
        if (part) look_for_nodes(*part, *start + at, kSector, true);
    }
    return true;
}

// Trees that lay elsewhere once, or that an earlier life of the volume had.
bool Former::read_free_ground() {
    if (node_size_ == 0) return true;
    const auto step = static_cast<std::size_t>(std::min<std::uint64_t>(geometry_.block_size, node_size_));
    std::uint64_t left = kMostGround, done = 0;
    for (const Extent& run : space_.free_runs())
        for (std::uint64_t at = run.offset; at < run.end() && left > 0;) {
            if (go_on_ && !go_on_("reading older trees", done, kMostGround)) return false;
            const std::uint64_t step_size = std::min({kAtOnce, run.end() - at, left});
            const std::uint64_t length = std::min(step_size + node_size_ - step, run.end() - at);
            const auto bytes = bytes_at(*volume_, at, static_cast<std::size_t>(length));
            if (bytes) look_for_nodes(*bytes, at, step, false);
            at += step_size;
            left -= step_size;
            done += step_size;
        }
    return true;
}

void Former::take(CatalogRecord&& record, bool in_journal) {
    if (record.left != CatalogRecord::Left::all) {
        if (ends_.size() < kMostItems) ends_.push_back(std::move(record));
        return;
    }
    const std::uint32_t id = record.item ? record.item->id : record.thread_of;
    if (id < kFirstUserCatalogNodeID) return;
    if (items_.size() >= kMostItems && !items_.contains(id)) return;
    FormerItem& known = items_[id];
    known.is_folder = known.is_folder || record.thread_is_of_folder || (record.item && record.item->is_folder);
    known.from_journal = known.from_journal || in_journal;
    // A file that was thrown away was somewhere else before, not the other way round.
    const auto add = [&](Link&& link, bool is_newer) {
        if (link.name.empty()) return;
        const auto there = std::find(known.links.begin(), known.links.end(), link);
        if (there == known.links.end() && known.links.size() >= kMostLinks) return;
        if (there != known.links.end() && !is_newer) return;
        if (there != known.links.end()) known.links.erase(there);
        const bool to_front =
            is_newer || known.links.empty() || (is_trash(link, items_) && !is_trash(known.links.front(), items_));
        known.links.insert(to_front ? known.links.begin() : known.links.end(), std::move(link));
    };
    if (!record.item) return add(std::move(record.thread), false);
    const bool is_newer = !known.item || record.item->is_later_than(*known.item);
    if (record.link) add(std::move(*record.link), is_newer && known.item.has_value());
    if (is_newer) known.item = record.item;
}

// A record of which the end of the number is left is of the file that has such a number and no content yet.
void Former::settle_ends() {
    std::multimap<std::uint16_t, std::uint32_t> by_end;
    for (const auto& [id, known] : items_)
        if (!known.item || (known.item->data.empty() && !known.item->is_folder))
            by_end.emplace(static_cast<std::uint16_t>(id), id);
    std::set<std::uint64_t> told;  // first blocks
    for (const auto& [id, known] : items_)
        if (known.item && !known.item->data.empty()) told.insert(known.item->data.first_block());
    // What more is left of comes first.
    std::stable_sort(ends_.begin(), ends_.end(),
                     [](const CatalogRecord& a, const CatalogRecord& b) { return a.left < b.left; });
    for (CatalogRecord& record : ends_) {
        CatalogItem& item = *record.item;
        if (told.contains(item.data.first_block())) continue;
        const auto same_end =
            record.id_end ? by_end.equal_range(*record.id_end) : std::pair(by_end.end(), by_end.end());
        if (same_end.first != same_end.second && std::next(same_end.first) == same_end.second) {
            FormerItem& known = items_[same_end.first->second];
            const bool is_same = !known.item || known.item->created == item.created;
            if (is_same && (!known.item || item.is_later_than(*known.item))) {
                item.id = same_end.first->second;
                known.item = item;
                known.left = record.left;
                told.insert(item.data.first_block());
                continue;
            }
        }
        told.insert(item.data.first_block());
        FormerItem nameless;
        nameless.left = record.left;
        nameless.item = item;
        nameless_.push_back(std::move(nameless));
    }
}

}  // namespace dredger::hfsplus
