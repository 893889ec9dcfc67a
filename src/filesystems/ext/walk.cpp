#include "filesystems/ext/walk.h"

#include <algorithm>
#include <fmt/format.h>

#include "filesystems/posix.h"
#include "media/content.h"

namespace dredger::ext {
namespace {

constexpr std::uint64_t kMaxLooked = std::uint64_t{256} << 20;       // bytes of free blocks looked at for directories
constexpr std::uint64_t kLargestDirectory = std::uint64_t{2} << 30;  // bytes

constexpr bool kStoresContent[] = {false, true, true, false, false, false, false, true};  // by FileType

}  // namespace

ExtWalk::ExtWalk(MediumPtr volume, const Geometry& geometry, const Groups& groups, const Journal& journal,
                 const SpaceMap& space, const WalkOptions& options, RecordSink& sink,
                 std::vector<std::string>& warnings)
    : Walking(options, sink, warnings),
      volume_(std::move(volume)),
      geometry_(geometry),
      groups_(groups),
      journal_(journal),
      space_(space),
      table_(volume_, geometry, groups, journal),
      reached_(std::size_t{geometry.inodes} + 1) {}

void ExtWalk::run() {
    walk_live(kRootInode, "", State::live);
    if (!options_.live_only && !stopped_) walk_deleted();
    warn_of(damaged_folders_, "folders are damaged: what they listed in the lost parts is missing");
    warn_of(damaged_inodes_, "live names lead to no inode: their content is missing");
}

std::string ExtWalk::path_of(std::size_t folder) const {
    const auto step_of = [this](std::size_t at) {
        const Folder& here = folders_[at];
        return std::optional(FolderStep<std::size_t>{here.parent, here.name, here.parent == at});
    };
    return folder_place(folder, step_of, [](std::size_t) { return std::string(); }).path;
}

void ExtWalk::walk_live(std::uint32_t root, const std::string& name, State state) {
    const std::size_t first = folders_.size();
    folders_.push_back({root, static_cast<std::uint32_t>(first), name});
    folder_by_inode_[root] = static_cast<std::uint32_t>(first);
    reached_[root] = true;
    for (std::size_t folder = first; folder < folders_.size() && !stopped_; ++folder) read_folder(folder, state);
}

// Shows the blocks of a directory with their places; an inline one has none. False: not all could be read.
bool ExtWalk::each_block(const Inode& inode,
                         const std::function<void(std::uint64_t block, const DirectoryBlock&)>& visit) {
    const Mapping mapping = table_.map(inode);
    const std::uint64_t size = std::min(inode.size, kLargestDirectory);
    const Content content(volume_, mapping.extents);
    if (inode.has_inline_data()) {
        std::vector<std::byte> bytes(static_cast<std::size_t>(std::min<std::uint64_t>(size, content.size())));
        std::vector<Extent> bad;
        if (!content.read(0, bytes, &bad) || !bad.empty()) return false;
        visit(0, read_inline_directory(ByteView(bytes), geometry_));
        return true;
    }
    bool whole = mapping.whole;
    std::vector<std::byte> block(static_cast<std::size_t>(geometry_.block_size));
    for (std::uint64_t at = 0; at + block.size() <= std::min(size, content.size()) && !stopped_; at += block.size()) {
        std::vector<Extent> bad;
        const auto places = content.places_of(at, block.size());
        if (places.size() != 1 || !places.front().is_stored() || !content.read(at, block, &bad) || !bad.empty()) {
            whole = false;
            continue;
        }
        const DirectoryBlock read = read_directory_block(ByteView(block), geometry_);
        whole = whole && read.whole;
        visit(places.front().offset / geometry_.block_size, read);
    }
    return whole;
}

void ExtWalk::read_folder(std::size_t folder, State state) {
    const auto inode = table_.read(folders_[folder].inode);
    const bool whole =
        inode && inode->is_folder() && each_block(*inode, [&](std::uint64_t block, const DirectoryBlock& read) {
            if (block != 0) owners_.add(block, inode->number, inode->generation, true);
            read_entries(folder, read, state);
        });
    if (!whole && !stopped_) ++damaged_folders_;
}

// By name, the inodes that a live folder lists.
std::map<std::string, std::uint32_t> ExtWalk::entries_of(std::uint32_t folder) {
    std::map<std::string, std::uint32_t> entries;
    const auto inode = folder_by_inode_.contains(folder) ? table_.read(folder) : std::nullopt;
    if (!inode || !inode->is_folder()) return entries;
    each_block(*inode, [&](std::uint64_t, const DirectoryBlock& read) {
        for (const DirectoryEntry& entry : read.entries)
            if (entry.live) entries[entry.name] = entry.inode;
    });
    return entries;
}

void ExtWalk::read_entries(std::size_t folder, const DirectoryBlock& block, State state) {
    const std::string path = path_of(folder);
    for (const DirectoryEntry& entry : block.entries) {
        if (stopped_) return;
        if (!entry.live || entry.inode > geometry_.inodes) continue;
        const auto inode = table_.read(entry.inode);
        if (!inode || inode->mode == 0) {
            ++damaged_inodes_;
            continue;
        }
        const bool is_new = !reached_[entry.inode];
        reached_[entry.inode] = true;
        // A folder has one name; a second one would lead in a circle.
        if (inode->is_folder() && !is_new) continue;
        if (!kStoresContent[static_cast<std::size_t>(type_of(*inode))]) continue;
        Record record = record_of(*inode);
        record.folder = path;
        record.name = entry.name;
        record.is_own = path.empty() && entry.name == "lost+found";
        record.state = state;
        add_content(record, *inode, table_.map(*inode));
        if (!table_.checks_out(entry.inode)) record.trust = LayoutTrust::damaged;
        if (inode->is_folder()) {
            folder_by_inode_[entry.inode] = static_cast<std::uint32_t>(folders_.size());
            folders_.push_back({entry.inode, static_cast<std::uint32_t>(folder), record.name});
        }
        emit(std::move(record));
    }
}

Record ExtWalk::record_of(const Inode& inode) const {
    Record record;
    record.identity = {0, inode.number, inode.generation};
    record.is_folder = inode.is_folder();
    record.created = inode.created;
    record.modified = inode.modified;
    record.changed = inode.changed;
    record.accessed = inode.accessed;
    tell_inode_facts(record, inode.number, inode.mode, inode.uid, inode.gid);
    if ((inode.flags & ENCRYPT_FL) != 0) record.attributes.emplace_back(kEncrypted);
    return record;
}

void ExtWalk::add_content(Record& record, const Inode& inode, Mapping&& mapping) {
    if (inode.is_folder()) {
        if (!mapping.within_inode) record.keeping = std::move(mapping.extents);
        return;
    }
    record.size = inode.size;
    record.layout.lay(mapping.extents);
    record.layout.within_records = mapping.within_inode;
    record.keeping = std::move(mapping.mappers);
    if (!mapping.whole) {
        record.trust = LayoutTrust::damaged;
        record.notes.emplace_back("a part of the list of its blocks is lost");
    }
}

void ExtWalk::walk_deleted() {
    const auto next_group = [this](std::uint64_t group) {
        return go_on("reading inode tables", group, geometry_.groups);
    };
    const auto lives = Lives::read(geometry_, groups_, journal_, table_, reached_, next_group);
    if (!lives) {
        stopped_ = true;
        return;
    }
    walk_unreached(lives->unreached());
    learn_owners(*lives);
    see_names(*lives);
    const auto names = names_of(*lives);
    name_folders(*lives, names);
    for (std::size_t life = 0; life < lives->all().size() && !stopped_; ++life) emit_life(*lives, life, names[life]);
    emit_names_alone(*lives);
}

// In use by its own word, but no folder lists it: what did is damaged.
void ExtWalk::walk_unreached(const std::vector<std::uint32_t>& inodes) {
    for (const bool folders : {true, false})
        for (const std::uint32_t number : inodes) {
            if (stopped_ || reached_[number]) continue;
            const auto inode = table_.read(number);
            if (!inode || inode->is_folder() != folders || !kStoresContent[static_cast<std::size_t>(type_of(*inode))])
                continue;
            Record record = record_of(*inode);
            name_by_number(record, fmt::format("({} {})", folders ? "folder" : "inode", number),
                           "no folder lists it any more; the number of its inode stands for its name");
            record.state = State::lost;
            add_content(record, *inode, table_.map(*inode));
            const std::string name = record.name;
            emit(std::move(record));
            if (folders) walk_live(number, name, State::lost);
        }
}

void ExtWalk::learn_owners(const Lives& lives) {
    for (const Life& life : lives.all()) {
        if (life.type != FileType::folder || !life.last || life.end == Life::End::lives) continue;
        const Mapping mapping = Lives::map(life, geometry_, journal_, table_, *volume_);
        if (mapping.within_inode) continue;
        for (const Extent& extent : mapping.extents)
            for (std::uint64_t at = 0; extent.is_stored() && at < std::min(extent.length, kLargestDirectory);
                 at += geometry_.block_size)
                owners_.add((extent.offset + at) / geometry_.block_size, life.inode, life.generation, false);
    }
    owners_.seal();
}

void ExtWalk::see_names(const Lives& lives) {
    Sightings sightings(geometry_, owners_);
    sightings.read_journal(journal_, groups_);
    const auto read = [&](std::uint64_t block) {
        const auto bytes = volume_->bytes(block * geometry_.block_size, static_cast<std::size_t>(geometry_.block_size));
        if (bytes) sightings.read_block(ByteView(*bytes, block * geometry_.block_size));
    };
    std::uint64_t last = 0;
    for (const BlockOwners::Owner& owner : owners_.all())
        if (owner.block != std::exchange(last, owner.block)) read(owner.block);
    const auto read_inline = [&](const Inode& folder, std::optional<std::uint32_t> sequence) {
        const Content content(volume_, table_.map(folder).extents);
        std::vector<std::byte> bytes(static_cast<std::size_t>(std::min<std::uint64_t>(content.size(), 4096)));
        std::vector<Extent> bad;
        if (content.read(0, bytes, &bad))
            sightings.take(folder.number, read_inline_directory(ByteView(bytes), geometry_), sequence);
    };
    for (const Lives::InlineFolder& folder : lives.inline_folders()) read_inline(folder.inode, folder.sequence);
    for (const Life& life : lives.all())
        if (life.type == FileType::folder && life.last && life.last->has_inline_data() && !life.from_journal)
            read_inline(*life.last, std::nullopt);
    look_at_free_blocks(sightings);

    // What a folder lists now is not gone.
    std::uint32_t folder = 0;
    std::map<std::string, std::uint32_t> entries;
    sightings_ = sightings.finish([&](const Sighting& sighting) {
        if (sighting.folder != std::exchange(folder, sighting.folder)) entries = entries_of(sighting.folder);
        const auto entry = entries.find(sighting.name);
        return entry != entries.end() && entry->second == sighting.inode;
    });
}

void ExtWalk::look_at_free_blocks(Sightings& sightings) const {
    constexpr std::uint64_t kAtOnce = std::uint64_t{1} << 20;
    std::uint64_t left = kMaxLooked;
    for (const Extent& run : space_.free_runs()) {
        for (std::uint64_t at = run.offset; at < run.end() && left > 0;) {
            const std::uint64_t length = std::min({kAtOnce, run.end() - at, left});
            const auto bytes = volume_->bytes(at, static_cast<std::size_t>(length));
            for (std::uint64_t from = 0; bytes && from + geometry_.block_size <= length; from += geometry_.block_size) {
                const ByteView block(
                    std::span<const std::byte>(*bytes).subspan(static_cast<std::size_t>(from),
                                                               static_cast<std::size_t>(geometry_.block_size)),
                    at + from);
                if (directory_begun_by(block, geometry_) != 0) sightings.read_block(block);
            }
            at += length;
            left -= length;
        }
    }
}

// By life, the names it was seen under; the last it had come first.
std::vector<std::vector<const Sighting*>> ExtWalk::names_of(const Lives& lives) const {
    std::vector<std::vector<const Sighting*>> names(lives.all().size());
    for (const Sighting& sighting : sightings_) {
        const Life* life = lives.at(sighting.inode, sighting.type, sighting.sequence);
        if (life == nullptr || life->end == Life::End::lives) continue;
        names[static_cast<std::size_t>(life - lives.all().data())].push_back(&sighting);
    }
    for (auto& seen : names)
        std::stable_sort(seen.begin(), seen.end(), [](const Sighting* a, const Sighting* b) {
            if (a->sequence.has_value() != b->sequence.has_value()) return a->sequence.has_value();
            return a->sequence && static_cast<std::int32_t>(*b->sequence - *a->sequence) < 0;
        });
    return names;
}

void ExtWalk::name_folders(const Lives& lives, const std::vector<std::vector<const Sighting*>>& names) {
    folder_names_.assign(lives.all().size(), nullptr);
    for (std::size_t life = 0; life < names.size(); ++life)
        if (lives.all()[life].type == FileType::folder && !names[life].empty())
            folder_names_[life] = names[life].front();
}

FolderPlace ExtWalk::place_of(const Lives& lives, std::uint32_t folder, std::optional<std::uint32_t> sequence) const {
    struct Key {
        std::uint32_t inode;
        std::optional<std::uint32_t> sequence;
    };
    const auto step_of = [&](const Key& key) -> std::optional<FolderStep<Key>> {
        if (key.inode == kRootInode) return FolderStep<Key>{{}, "", true};
        const Life* life = lives.at(key.inode, FileType::folder, key.sequence);
        if (life == nullptr || life->end == Life::End::lives) {
            const auto live = folder_by_inode_.find(key.inode);
            if (live == folder_by_inode_.end()) return std::nullopt;
            return FolderStep<Key>{{}, path_of(live->second), true};
        }
        const Sighting* name = folder_names_[static_cast<std::size_t>(life - lives.all().data())];
        if (name == nullptr) return std::nullopt;
        return FolderStep<Key>{{name->folder, name->sequence}, name->name, false};
    };
    return folder_place(Key{folder, sequence}, step_of,
                        [](const Key& key) { return fmt::format("(folder {})", key.inode); });
}

void ExtWalk::emit_life(const Lives& lives, std::size_t index, const std::vector<const Sighting*>& names) {
    const Life& life = lives.all()[index];
    if (life.end == Life::End::lives || !kStoresContent[static_cast<std::size_t>(life.type)]) return;
    // A folder without a name is one above its files, no more.
    if (names.empty() && (!life.last || life.type == FileType::folder)) return;
    Inode inode = life.last.value_or(Inode{});
    inode.number = life.inode;
    inode.generation = life.generation;
    Record record = record_of(inode);
    if (!life.last) record.facts.clear();
    record.is_folder = life.type == FileType::folder;
    record.state = life.end == Life::End::formatted ? State::lost : State::deleted;
    record.origin = life.from_journal || life.end == Life::End::formatted ? Origin::remnant : Origin::record;
    if (life.deleted != 0) record.deleted = FileTime{life.deleted, 0};
    if (life.last) {
        add_content(record, inode, Lives::map(life, geometry_, journal_, table_, *volume_));
        if (life.from_journal && !record.is_folder)
            record.notes.emplace_back("its inode was cleared; as it was before stands in the journal");
    } else if (!record.is_folder) {
        record.created = record.modified = record.changed = record.accessed = std::nullopt;
        record.trust = LayoutTrust::none;
        record.notes.emplace_back("its inode was cleared: its size and where it lay are not known");
    }
    // Hard links are names that lived together; others are earlier names of it.
    const std::size_t count = record.is_folder ? 1 : std::max<std::size_t>(1, inode.links);
    for (std::size_t i = 0; i < std::min(count, names.size()); ++i) {
        Record named = record;
        const FolderPlace place = place_of(lives, names[i]->folder, names[i]->sequence);
        named.folder = place.path;
        named.name = names[i]->name;
        if (!place.is_known)
            named.notes.emplace_back("a folder above it is not known any more; the number of its inode stands for it");
        emit(std::move(named));
    }
    if (!names.empty()) return;
    name_by_number(record, fmt::format("(inode {})", life.inode),
                   "its name is not known any more; the number of its inode stands for it");
    emit(std::move(record));
}

// Names whose inode leads another life now, of which nothing else is known.
void ExtWalk::emit_names_alone(const Lives& lives) {
    for (const Sighting& sighting : sightings_) {
        if (stopped_) return;
        if (lives.at(sighting.inode, sighting.type, sighting.sequence) != nullptr) continue;
        const auto now = table_.read(sighting.inode);
        // An earlier name of what is still there.
        if (!now || sighting.type == FileType::unknown || (now->is_in_use() && type_of(*now) == sighting.type))
            continue;
        if (!kStoresContent[static_cast<std::size_t>(sighting.type)]) continue;
        Record record;
        record.identity.number = sighting.inode;
        record.is_folder = sighting.type == FileType::folder;
        const FolderPlace place = place_of(lives, sighting.folder, sighting.sequence);
        record.folder = place.path;
        record.name = sighting.name;
        record.state = State::deleted;
        record.origin = Origin::remnant;
        if (!record.is_folder) {
            record.trust = LayoutTrust::none;
            record.notes.emplace_back("only its name is left: its size and where it lay are not known");
        }
        emit(std::move(record));
    }
}

}  // namespace dredger::ext
