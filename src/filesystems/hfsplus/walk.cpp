#include "filesystems/hfsplus/walk.h"

#include <fmt/format.h>

#include "filesystems/posix.h"
#include "filesystems/tools/decmpfs.h"

namespace dredger::hfsplus {
namespace {

constexpr std::string_view kResourceFork = "resource fork", kFinderInfo = "Finder information";
// The folders in which hard links' files and folders stand, and what those are called there (TN1150, "Hard Links").
constexpr std::string_view kPrivateFiles("\0\0\0\0HFS+ Private Data", 21);
constexpr std::string_view kPrivateFolders = ".HFS+ Private Directory Data\r";

bool is_private(const Link& link) {
    return link.parent == kRootFolderID && (link.name == kPrivateFiles || link.name == kPrivateFolders);
}
bool is_journal(const Link& link) {
    return link.parent == kRootFolderID && (link.name == ".journal" || link.name == ".journal_info_block");
}

// Four letters of a type or creator; empty where they are none, or not known.
std::string code_text(std::span<const std::uint8_t, 4> code) {
    constexpr std::string_view kNotKnown = "????";
    std::string text;
    for (const std::uint8_t letter : code) {
        if (letter < 0x20 || letter > 0x7E) return {};
        text += static_cast<char>(letter);
    }
    return text == kNotKnown ? std::string() : text;
}

bool tells_anything(const FinderInfo& info) {
    return !code_text(info.fileType).empty() || !code_text(info.fileCreator).empty() ||
           std::any_of(std::begin(info.rest), std::end(info.rest), [](std::uint8_t byte) { return byte != 0; });
}

// Whether it is as it was when the file was made: what is written is recorded when the file is closed.
bool tells_of_its_start_alone(const CatalogItem& item) {
    return !item.is_folder && item.data.empty() && item.resource.empty() && !item.is_compressed() &&
           item.changed == item.created;
}

void tell_item(Record& record, const CatalogItem& item) {
    record.identity = {0, item.id, 0};
    record.is_folder = item.is_folder;
    record.created = item.created;
    record.modified = item.modified;
    record.changed = item.changed;
    record.accessed = item.accessed;
    if (item.mode != 0)
        tell_inode_facts(record, item.id, item.mode, item.owner, item.group);
    else
        record.facts.push_back({"inode", std::to_string(item.id)});
    if (item.is_folder) return;
    const std::string type = code_text(item.finder.fileType), creator = code_text(item.finder.fileCreator);
    if (!type.empty()) record.facts.push_back({"type", type});
    if (!creator.empty()) record.facts.push_back({"creator", creator});
}

}  // namespace

HfsPlusWalk::HfsPlusWalk(const MediumPtr& volume, const Geometry& geometry, const SpaceMap& space,
                         const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings)
    : Walking(options, sink, warnings),
      volume_(volume),
      geometry_(geometry),
      trees_{Btree(volume, ExtentsOverflow().extents_of(geometry.catalog, kCatalogFileID, ForkKind::data, geometry)),
             Btree(volume, ExtentsOverflow().extents_of(geometry.extents, kExtentsFileID, ForkKind::data, geometry)),
             Btree(volume, {})},
      former_(volume, geometry, space),
      placing_(volume, geometry, space, options) {
    extents_.read(trees_.extents, geometry);
    // The other trees' files may be in more pieces than their header has room for.
    trees_.catalog = Btree(volume, extents_.extents_of(geometry.catalog, kCatalogFileID, ForkKind::data, geometry));
    trees_.attributes =
        Btree(volume, extents_.extents_of(geometry.attributes, kAttributesFileID, ForkKind::data, geometry));
    attributes_.read(trees_.attributes, geometry);
}

void HfsPlusWalk::run() {
    learn();
    walk_live();
    if (!options_.live_only && !stopped_) walk_former();
    warn_of(damaged_records_, "records of the catalog make no sense: the files that they tell of are missing");
}

void HfsPlusWalk::learn() {
    std::uint64_t seen = 0;
    const bool whole = trees_.catalog.each_leaf([&](const Node& leaf, std::uint64_t) {
        for (std::size_t i = 0; i < leaf.count(); ++i) {
            if (const auto record = parse_catalog_record(leaf.record(i), geometry_))
                learn(*record);
            else
                ++damaged_records_;
        }
        return go_on("reading the catalog", ++seen, trees_.catalog.nodes());
    });
    if (!trees_.catalog.is_there())
        warnings_.emplace_back("the catalog can't be read: files are known from what is left of it alone");
    else if (!whole)
        warnings_.emplace_back("the catalog is damaged: files that its lost parts tell of are missing");
}

void HfsPlusWalk::learn(const CatalogRecord& record) {
    if (!record.item || !record.link) return;
    const CatalogItem& item = *record.item;
    live_.insert(item.id);
    if (item.is_folder) {
        folders_[item.id] = *record.link;
        if (is_private(*record.link))
            (record.link->name == kPrivateFolders ? private_folders_ : private_files_) = item.id;
    } else if (item.data.blocks > 0) {
        live_starts_.insert(item.data.first_block());
    }
    // The private folders' names come before all others in the root, so that they are known here.
    const bool is_shared = record.link->parent == private_files_ || record.link->parent == private_folders_;
    if (is_shared && record.link->parent != 0) shared_[record.link->name] = {item, false};
    if (options_.live_only) return;
    if (item.data.blocks > 0)
        placing_.add_known(item.id, item.data);
    else
        placing_.add_other(item.id);
}

const CatalogItem* HfsPlusWalk::target_of(const CatalogItem& item) {
    std::string name;
    if (item.has_type("hlnk", "hfs+")) name = fmt::format("iNode{}", item.special);
    if (item.has_type("fdrp", "MACS")) name = fmt::format("dir_{}", item.special);
    const auto target = name.empty() ? shared_.end() : shared_.find(name);
    if (target == shared_.end()) return nullptr;
    target->second.is_linked = true;
    return &target->second.item;
}

void HfsPlusWalk::walk_live() {
    trees_.catalog.each_leaf([&](const Node& leaf, std::uint64_t) {
        for (std::size_t i = 0; i < leaf.count() && !stopped_; ++i) {
            const auto parsed = parse_catalog_record(leaf.record(i), geometry_);
            if (!parsed || !parsed->item || !parsed->link || parsed->item->id == kRootFolderID) continue;
            const Link& link = *parsed->link;
            if (link.parent == private_files_ || link.parent == private_folders_) continue;
            Record record;
            record.folder = place_of(link.parent).path;
            record.name = link.name;
            record.is_own = is_private(link) || is_journal(link);
            const CatalogItem* target = target_of(*parsed->item);
            emit_item(std::move(record), target != nullptr ? *target : *parsed->item, true);
        }
        return !stopped_;
    });
    // What no link leads to was removed while a program still had it open.
    for (const auto& [name, shared] : shared_) {
        if (stopped_ || shared.is_linked || shared.item.is_folder) continue;
        Record record;
        record.state = State::deleted;
        name_by_number(record, fmt::format("(file {})", shared.item.id),
                       "its last name was removed while it was in use");
        emit_item(std::move(record), shared.item, true);
    }
}

FolderPlace HfsPlusWalk::place_of(std::uint32_t folder) const {
    return folder_place(
        folder,
        [this](std::uint32_t id) -> std::optional<FolderStep<std::uint32_t>> {
            if (id == kRootFolderID) return FolderStep<std::uint32_t>{0, "", true};
            if (const auto live = folders_.find(id); live != folders_.end())
                return FolderStep<std::uint32_t>{live->second.parent, live->second.name, false};
            const FormerItem* former = former_.item(id);
            if (former == nullptr || former->links.empty()) return std::nullopt;
            return FolderStep<std::uint32_t>{former->links.front().parent, former->links.front().name, false};
        },
        [](std::uint32_t id) { return fmt::format("(folder {})", id); });
}

void HfsPlusWalk::emit_item(Record&& record, const CatalogItem& item, bool is_live) {
    tell_item(record, item);
    if (item.is_folder) return emit(std::move(record));
    lay(record, item, is_live);
    emit_streams(record, item, is_live);
    emit(std::move(record));
}

void HfsPlusWalk::lay(Record& record, const CatalogItem& item, bool is_live) {
    const ExtentsOverflow& overflow = is_live ? extents_ : former_.extents();
    const Attributes& attributes = is_live ? attributes_ : former_.attributes();
    const Attribute* packed = item.is_compressed() ? attributes.find(item.id, kDecmpfsAttribute) : nullptr;
    if (packed != nullptr) {
        record.attributes.emplace_back("compressed");
        return lay_compressed(volume_, places_of(*packed, overflow),
                              overflow.extents_of(item.resource, item.id, ForkKind::resource, geometry_), record);
    }
    record.size = item.data.size;
    record.layout.lay(overflow.extents_of(item.data, item.id, ForkKind::data, geometry_));
    const bool whole = std::none_of(record.layout.extents.begin(), record.layout.extents.end(),
                                    [](const LayoutExtent& extent) { return extent.is_unknown(); });
    if (item.is_compressed() && item.data.empty()) {
        record.trust = LayoutTrust::none;
        record.notes.emplace_back("it was packed, and the attribute that tells how is gone");
    } else if (!whole) {
        record.trust = LayoutTrust::damaged;
        record.notes.emplace_back("a part of the list of its extents is lost");
    }
}

std::vector<Extent> HfsPlusWalk::places_of(const Attribute& attribute, const ExtentsOverflow& overflow) const {
    if (attribute.is_inline()) return {attribute.place};
    return overflow.extents_of(attribute.fork, kAttributesFileID, ForkKind::data, geometry_);
}

void HfsPlusWalk::emit_streams(const Record& file, const CatalogItem& item, bool is_live) {
    const ExtentsOverflow& overflow = is_live ? extents_ : former_.extents();
    const bool is_packed = item.is_compressed();
    if (!item.resource.empty() && !is_packed)
        emit(stream_of(file, kResourceFork, overflow.extents_of(item.resource, item.id, ForkKind::resource, geometry_),
                       item.resource.size, false));
    if (tells_anything(item.finder))
        emit(stream_of(file, kFinderInfo, {item.finder_place}, item.finder_place.length, true));
    for (const Attribute& attribute : (is_live ? attributes_ : former_.attributes()).of(item.id))
        if (attribute.name != kDecmpfsAttribute)
            emit(stream_of(file, attribute.name, places_of(attribute, overflow), attribute.size(),
                           attribute.is_inline()));
}

void HfsPlusWalk::walk_former() {
    if (!former_.read(trees_, options_.go_on)) {
        stopped_ = true;
        return;
    }
    place_former();
    for (const auto& [id, former] : former_.items()) {
        if (stopped_) return;
        emit_former(id, former);
    }
    for (const FormerItem& former : former_.nameless()) {
        if (stopped_) return;
        emit_nameless(former);
    }
}

void HfsPlusWalk::place_former() {
    for (const auto& [id, former] : former_.items()) {
        if (live_.contains(id)) continue;
        if (former.item && former.item->data.blocks > 0)
            placing_.add_known(id, former.item->data);
        else if (!former.is_folder && !former.links.empty() && (!former.item || tells_of_its_start_alone(*former.item)))
            placing_.add_wanted(id, former.links.front().name);
        else
            placing_.add_other(id);
    }
    placed_ = placing_.place();
}

void HfsPlusWalk::emit_former(std::uint32_t id, const FormerItem& former) {
    if (former.links.empty() && (former.is_folder || !former.item)) return;
    const CatalogItem* item = former.item ? &*former.item : nullptr;
    const bool is_link = item != nullptr && (item->has_type("hlnk", "hfs+") || item->has_type("fdrp", "MACS"));
    const bool is_live = live_.contains(id);
    const bool is_earlier_content =
        item != nullptr && !former.is_folder && !item->data.empty() && !live_starts_.contains(item->data.first_block());
    if (is_link || (is_live && !is_earlier_content)) return;
    Record record;
    record.state = State::deleted;
    record.origin = Origin::remnant;
    if (is_live) record.notes.emplace_back("it is an earlier state of a file that is still there");
    tell_name(record, id, former);
    if (former.left != CatalogRecord::Left::all)
        record.notes.emplace_back("the start of its record is overwritten; the end of it tells of its content");
    if (former.from_journal) record.notes.emplace_back("the journal keeps a copy of its record");
    if (item != nullptr && may_have_grown(record.name, *item)) {
        record.trust = LayoutTrust::damaged;
        record.notes.emplace_back(
            "what is left of its record is of when it was being written: its content goes on somewhere else");
    }
    if (item != nullptr && !tells_of_its_start_alone(*item)) return emit_item(std::move(record), *item, false);
    if (item != nullptr) {
        tell_item(record, *item);
        // When it was made is not when it was written.
        record.modified = record.changed = std::nullopt;
        record.notes.emplace_back(
            "what is left of its record is of when it was made, before anything was written to it");
    } else {
        record.identity = {0, id, 0};
        record.is_folder = former.is_folder;
        record.notes.emplace_back("nothing but its name is left of its record");
    }
    if (!record.is_folder) lay_placed(record, id);
    emit(std::move(record));
}

// A file that grows is recorded in whole blocks now and then; that it had more shows where its format does not end.
bool HfsPlusWalk::may_have_grown(std::string_view name, const CatalogItem& item) const {
    if (item.is_folder || item.data.empty() || item.is_compressed() || item.data.size % geometry_.block_size != 0 ||
        !options_.head_for_name || !options_.content_length)
        return false;
    const Content content(volume_, former_.extents().extents_of(item.data, item.id, ForkKind::data, geometry_));
    std::vector<std::byte> head(static_cast<std::size_t>(std::min<std::uint64_t>(content.size(), 4096)));
    std::vector<Extent> bad;
    return content.read(0, head, &bad) && options_.head_for_name(name, ByteView(head)) == Agreement::agrees &&
           !options_.content_length(name, content);
}

void HfsPlusWalk::tell_name(Record& record, std::uint32_t id, const FormerItem& former) const {
    if (former.links.empty()) {
        name_by_number(record, fmt::format("(file {})", id),
                       "its name is not known any more; its number stands for it");
        return;
    }
    const FolderPlace place = place_of(former.links.front().parent);
    record.folder = place.path;
    record.name = former.links.front().name;
    if (!place.is_known) record.notes.emplace_back("a folder above it is not known any more; a number stands for it");
    for (std::size_t i = 1; i < former.links.size(); ++i)
        record.facts.push_back({"earlier path", joined(place_of(former.links[i].parent).path, former.links[i].name)});
}

void HfsPlusWalk::lay_placed(Record& record, std::uint32_t id) const {
    const auto placed = placed_.find(id);
    if (placed == placed_.end()) {
        record.trust = LayoutTrust::none;
        return;
    }
    record.size = placed->second.size;
    record.layout.lay({{placed->second.start, placed->second.size}});
    record.trust = placed->second.is_sure ? LayoutTrust::assumed : LayoutTrust::damaged;
    if (!placed->second.is_sure)
        record.notes.emplace_back("what lies there may be of another file of its kind, whose name is lost");
    record.notes.emplace_back(
        "where its content lies is inferred from the files that were made before and behind it, and from its name");
}

void HfsPlusWalk::emit_nameless(const FormerItem& former) {
    const CatalogItem& item = *former.item;
    if (live_starts_.contains(item.data.first_block())) return;
    Record record;
    record.state = State::deleted;
    record.origin = Origin::remnant;
    name_by_number(record, fmt::format("(file at block {})", item.data.first_block()),
                   "the start of its record is overwritten, and with it its name; the end of it tells of its content");
    emit_item(std::move(record), item, false);
}

}  // namespace dredger::hfsplus
