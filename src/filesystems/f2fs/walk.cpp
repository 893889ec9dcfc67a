#include "filesystems/f2fs/walk.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/text.h"
#include "media/cached.h"
#include "volumes/trace.h"

namespace dredger::f2fs {
namespace {

// A segment that was given back keeps what was written to it until data takes it; volumes up to this size are read
// whole.
constexpr std::uint64_t kReadWhole = std::uint64_t{1} << 30;  // bytes

}  // namespace

F2fsWalk::F2fsWalk(MediumPtr volume, const Geometry& geometry, const Tables& tables, const WalkOptions& options,
                   RecordSink& sink, std::vector<std::string>& warnings)
    : Walking(options, sink, warnings),
      volume_(std::make_shared<Cached>(std::move(volume))),
      geometry_(geometry),
      tables_(tables) {}

void F2fsWalk::run() {
    walk_live();
    if (!options_.live_only && !stopped_) walk_deleted();
    warn_of(damaged_folders_, "folders are damaged: what they listed in the lost parts is missing");
    warn_of(damaged_inodes_, "live names lead to no inode: their content is missing");
}

std::optional<std::vector<std::byte>> F2fsWalk::block_at(std::uint32_t block) const {
    return geometry_.is_in_main(block) ? bytes_at(*volume_, std::uint64_t{block} * kBlock, kBlock) : std::nullopt;
}

std::optional<Inode> F2fsWalk::inode_at(std::uint32_t block) const {
    const auto bytes = block_at(block);
    return bytes ? parse_inode(ByteView(*bytes, std::uint64_t{block} * kBlock), geometry_) : std::nullopt;
}

std::optional<Inode> F2fsWalk::live_inode(std::uint32_t number) const {
    auto inode = inode_at(tables_.block_of(number));
    return inode && inode->number == number ? inode : std::nullopt;
}

NodeSource F2fsWalk::live_nodes() const {
    return [this](std::uint32_t node) { return block_at(tables_.block_of(node)); };
}

// The state that a node had when the inode was written, or the next one after it.
NodeSource F2fsWalk::former_nodes(std::uint32_t inode, std::uint32_t version) const {
    return [this, inode, version](std::uint32_t node) -> std::optional<std::vector<std::byte>> {
        const auto list = lists_.find({inode, node});
        if (list == lists_.end()) return std::nullopt;
        const Written* best = nullptr;
        for (const Written& one : list->second) {
            const auto worth = [&](const Written& w) {
                return std::tuple(w.version <= version, w.version <= version ? w.version : ~w.version, w.block);
            };
            if (best == nullptr || worth(one) > worth(*best)) best = &one;
        }
        return block_at(best->block);
    };
}

std::vector<DirectoryEntry> F2fsWalk::entries_of(const Inode& folder) {
    if (folder.has_inline_entries) return read_entries(ByteView(folder.inline_bytes));
    std::vector<DirectoryEntry> entries;
    const Placed placed = place(folder, geometry_, live_nodes());
    if (!placed.is_whole) ++damaged_folders_;
    for (const Extent& extent : placed.extents) {
        if (!extent.is_stored()) continue;
        for (std::uint64_t at = extent.offset; at + kBlock <= extent.end(); at += kBlock) {
            const auto bytes = bytes_at(*volume_, at, kBlock);
            if (!bytes) {
                ++damaged_folders_;
                continue;
            }
            auto some = read_entries(ByteView(*bytes));
            std::move(some.begin(), some.end(), std::back_inserter(entries));
        }
    }
    return entries;
}

void F2fsWalk::tell(Record& record, const Inode& inode, const NodeSource& nodes) const {
    record.identity = {0, inode.number, inode.generation};
    record.is_folder = inode.is_folder();
    record.modified = inode.modified;
    record.changed = inode.changed;
    record.accessed = inode.accessed;
    record.created = inode.created;
    tell_inode_facts(record, inode.number, inode.mode, inode.uid, inode.gid);
    if (inode.is_encrypted) {
        record.attributes.emplace_back(kEncrypted);
        name_by_number(record, fmt::format("(inode {})", inode.number), "its name is encrypted");
    }
    if (inode.is_folder()) return;
    record.size = inode.size;
    if (inode.has_inline_data) {
        record.layout.extents = {{inode.inline_at, std::min<std::uint64_t>(inode.size, inode.inline_bytes.size())}};
        record.layout.within_records = true;
        return;
    }
    const Placed placed = place(inode, geometry_, nodes);
    record.layout.lay(placed.extents);
    if (!placed.is_whole) {
        record.trust = LayoutTrust::damaged;
        record.notes.emplace_back("a list of its blocks is lost");
    }
    if (placed.is_packed) {
        record.layout = {};
        record.trust = LayoutTrust::none;
        record.attributes.emplace_back("compressed");
        record.notes.emplace_back("the file system packed it, in a way that is not read here");
    }
}

std::string F2fsWalk::path_of(std::uint32_t folder) const {
    const auto step_of = [this](std::uint32_t inode) -> std::optional<FolderStep<std::uint32_t>> {
        const auto found = folders_.find(inode);
        if (found == folders_.end()) return std::nullopt;
        return FolderStep<std::uint32_t>{found->second.parent, found->second.name, found->second.name.empty()};
    };
    return folder_place(folder, step_of, [](std::uint32_t) { return std::string(); }).path;
}

void F2fsWalk::walk_live() {
    folders_[geometry_.root_inode] = {geometry_.root_inode, ""};
    if (!tables_.has_checkpoint()) return;
    std::vector<std::uint32_t> open = {geometry_.root_inode};
    for (std::size_t next = 0; next < open.size() && !stopped_; ++next) {
        const std::uint32_t number = open[next];
        const auto inode = live_inode(number);
        if (!inode || !inode->is_folder()) {
            ++damaged_folders_;
            continue;
        }
        live_generations_[number] = inode->generation;
        const std::string path = path_of(number);
        for (const DirectoryEntry& entry : entries_of(*inode)) {
            if (stopped_) return;
            if (!entry.is_live) {
                seen_.try_emplace(entry.inode, number, entry.name);
                continue;
            }
            const auto child = live_inode(entry.inode);
            if (!child) {
                ++damaged_inodes_;
                continue;
            }
            if (child->is_folder() && folders_.contains(entry.inode)) continue;  // it would lead in a circle
            live_generations_[entry.inode] = child->generation;
            Record record;
            record.folder = path;
            record.name = valid_utf8(entry.name);
            tell(record, *child, live_nodes());
            if (child->is_folder()) {
                folders_[entry.inode] = {number, record.name};
                open.push_back(entry.inode);
            }
            emit(std::move(record));
        }
    }
}

void F2fsWalk::walk_deleted() {
    const bool whole = geometry_.main_blocks() * kBlock <= kReadWhole;
    for (std::uint32_t segment = 0; segment < geometry_.main_segments; ++segment) {
        if (!go_on("reading former inodes", segment, geometry_.main_segments)) return;
        if (whole || !tables_.has_checkpoint() || tables_.holds_nodes(segment)) read_segment(segment);
    }
    for (const auto& [key, former] : former_) {
        if (stopped_) return;
        const auto live = live_generations_.find(key.first);
        if (live != live_generations_.end() && live->second == former.generation) continue;
        emit_former(key.first, former);
    }
}

void F2fsWalk::read_segment(std::uint32_t segment) {
    const std::uint64_t at = std::uint64_t{geometry_.first_of(segment)} * kBlock;
    const std::uint64_t length = std::uint64_t{geometry_.segment_blocks} * kBlock;
    if (at >= volume_->size()) return;
    std::vector<std::byte> bytes(static_cast<std::size_t>(std::min(length, volume_->size() - at)));
    std::vector<Extent> bad;
    if (!volume_->read(at, bytes, &bad)) return;
    for (std::size_t i = 0; (i + 1) * kBlock <= bytes.size(); ++i)
        keep(geometry_.first_of(segment) + static_cast<std::uint32_t>(i),
             ByteView(std::span(bytes).subspan(i * kBlock, kBlock)));
}

void F2fsWalk::keep(std::uint32_t block, ByteView bytes) {
    const auto head = parse_node_head(bytes, geometry_);
    if (!head) return;
    const Written written{block, head->version};
    if (!head->is_inode()) {
        lists_[{head->inode, head->node}].push_back(written);
        return;
    }
    if (tables_.block_of(head->node) == block) return;  // a live one
    auto inode = parse_inode(bytes, geometry_);
    if (!inode || inode->number == geometry_.root_inode) return;
    Former former{written,           inode->generation,      inode->parent,
                  inode->links,      inode->parent_is_known, std::move(inode->name),
                  inode->is_folder()};
    const auto [found, is_new] = former_.try_emplace({inode->number, inode->generation}, former);
    if (!is_new && former.is_better_than(found->second)) found->second = std::move(former);
}

FolderPlace F2fsWalk::place_of(std::uint32_t folder) const {
    const auto step_of = [&](std::uint32_t number) -> std::optional<FolderStep<std::uint32_t>> {
        if (folders_.contains(number)) return FolderStep<std::uint32_t>{0, path_of(number), true};
        // The last life that was a folder.
        const Former* best = nullptr;
        for (auto one = former_.lower_bound({number, 0}); one != former_.end() && one->first.first == number; ++one)
            if (one->second.is_folder && (best == nullptr || one->second.at.version > best->at.version))
                best = &one->second;
        if (best == nullptr || best->name.empty()) return std::nullopt;
        return FolderStep<std::uint32_t>{best->parent, valid_utf8(best->name), false};
    };
    return folder_place(folder, step_of, [](std::uint32_t number) { return fmt::format("(folder {})", number); });
}

void F2fsWalk::emit_former(std::uint32_t number, const Former& former) {
    const auto inode = inode_at(former.at.block);
    if (!inode) return;
    Record record;
    record.state = State::deleted;
    record.origin = Origin::remnant;
    std::uint32_t parent = inode->parent;
    std::string name = inode->name;
    if (!inode->parent_is_known || name.empty())
        if (const auto seen = seen_.find(number); seen != seen_.end()) {
            parent = seen->second.first;
            if (name.empty()) name = seen->second.second;
        }
    record.folder = place_of(parent).path;
    record.name = valid_utf8(name);
    if (name.empty() && !inode->is_encrypted)
        name_by_number(record, fmt::format("(inode {})", number), "its name is lost");
    tell(record, *inode, former_nodes(number, former.at.version));
    if (!inode->parent_is_known)
        record.notes.emplace_back(
            "it had several names: its folder is the one that listed it, as far as that is known");
    if (tables_.has_checkpoint() && former.at.version == tables_.version() && !tables_.was_unmounted())
        record.notes.emplace_back(
            "it was written after the last checkpoint: a system that mounts the volume may bring it back");
    emit(std::move(record));
}

}  // namespace dredger::f2fs
