#include "filesystems/apfs/former.h"

#include <algorithm>
#include <tuple>

namespace dredger::apfs {
namespace {

constexpr std::size_t kMostFiles = 2'000'000, kMostStreams = 2'000'000, kMostNames = 64, kMostCovers = 1024;

}  // namespace

void FormerExtents::add(const FileExtent& extent, std::uint64_t xid) {
    for (const Cover& cover : covers_)
        if (cover.xid > xid && cover.first <= extent.start && extent.start <= cover.last) return;
    Told& there = extents_[extent.start];
    if (xid >= there.xid) there = {xid, extent};
}

void FormerExtents::cover(std::uint64_t first, std::uint64_t last, std::uint64_t xid) {
    if (covers_.size() >= kMostCovers) return;
    covers_.push_back({first, last, xid});
    for (auto there = extents_.lower_bound(first); there != extents_.end() && there->first <= last;)
        there = there->second.xid < xid ? extents_.erase(there) : std::next(there);
}

std::vector<FileExtent> FormerExtents::newest() const {
    std::vector<Told> order;
    order.reserve(extents_.size());
    for (const auto& [start, told] : extents_) order.push_back(told);
    std::stable_sort(order.begin(), order.end(), [](const Told& a, const Told& b) { return a.xid > b.xid; });
    // An older one that reaches into a newer one is of an earlier state.
    std::map<std::uint64_t, FileExtent> kept;
    for (const Told& told : order) {
        FileExtent extent = told.extent;
        const auto behind = kept.lower_bound(extent.start);
        if (behind != kept.begin()) {
            const FileExtent& before = std::prev(behind)->second;
            if (before.start + before.length > extent.start) continue;
        }
        if (behind != kept.end()) extent.length = std::min(extent.length, behind->first - extent.start);
        if (extent.length > 0) kept[extent.start] = extent;
    }
    std::vector<FileExtent> extents;
    for (const auto& [start, extent] : kept) extents.push_back(extent);
    return extents;
}

const FormerName* FormerFile::name() const {
    const auto last = std::max_element(names.begin(), names.end(), [](const FormerName& a, const FormerName& b) {
        return std::tuple(a.parent != 0, a.parent_is_told, a.xid) < std::tuple(b.parent != 0, b.parent_is_told, b.xid);
    });
    return last == names.end() ? nullptr : &*last;
}

const FormerFile* Former::file(std::uint64_t inode) const {
    const auto found = files_.find(inode);
    return found == files_.end() ? nullptr : &found->second;
}

std::vector<FileExtent> Former::extents_of(std::uint64_t stream, std::uint64_t size) const {
    const auto told = extents_.find(stream), left = remains_.find(stream);
    std::vector<FileExtent> extents = told != extents_.end() ? told->second.newest() : std::vector<FileExtent>();
    if (left == remains_.end()) return extents;
    std::uint64_t reached = 0;
    for (const FileExtent& extent : extents)
        if (extent.start == reached) reached += extent.length;
    if (reached >= size) return extents;
    constexpr std::uint64_t kBeforeAll = 0;
    FormerExtents merged;
    for (const FileExtent& extent : left->second.newest()) merged.add(extent, kBeforeAll);
    for (const FileExtent& extent : extents) merged.add(extent, kBeforeAll + 1);
    return merged.newest();
}

FormerFile* Former::file_of(std::uint64_t inode, const IsLive& is_live) {
    if (inode < MIN_USER_INO_NUM || is_live(inode)) return nullptr;
    const auto there = files_.find(inode);
    if (there != files_.end()) return &there->second;
    return files_.size() < kMostFiles ? &files_[inode] : nullptr;
}

namespace {

// One that was removed while it was in use waits in a private folder.
bool has_name(const Inode& inode) { return inode.parent != PRIV_DIR_INO_NUM && (inode.is_folder() || inode.links > 0); }

void add_name(FormerFile& file, std::uint64_t parent, const std::string& text, std::uint64_t xid) {
    if (text.empty() || parent == PRIV_DIR_INO_NUM) return;
    const auto known = std::find_if(file.names.begin(), file.names.end(),
                                    [&](const FormerName& one) { return one.parent == parent && one.name == text; });
    if (known != file.names.end())
        known->xid = std::max(known->xid, xid);
    else if (file.names.size() < kMostNames)
        file.names.push_back({parent, text, xid});
}

}  // namespace

void Former::take_inode(FormerFile& file, const Inode& inode, std::uint64_t xid) {
    file.is_folder = file.is_folder || inode.is_folder();
    // What waits in the private folder has a name of the driver's there; the inode may keep its own.
    constexpr std::string_view kWaiting = "-dead";
    if (has_name(inode)) {
        add_name(file, inode.parent, inode.name, xid);
    } else {
        if (!inode.name.ends_with(kWaiting)) add_name(file, 0, inode.name, xid);
        file.removed = std::max(file.removed.value_or(inode.changed), inode.changed);
    }
    // Being removed takes the name first, and the content after that.
    const auto rank = [](const Inode& one, std::uint64_t of) {
        return std::tuple(!one.is_new(), has_name(one), one.changed.seconds, one.changed.nanoseconds, of);
    };
    if (file.inode && rank(inode, xid) < rank(*file.inode, file.xid)) return;
    file.inode = inode;
    file.xid = xid;
}

// All but extents.
void Former::take_file(const FsKey& key, ByteView key_bytes, ByteView value, std::uint64_t xid, const IsLive& is_live) {
    if (key.type == APFS_TYPE_DIR_REC) {
        const auto record = parse_directory_record(key_bytes, value);
        FormerFile* named = record ? file_of(record->file_id, is_live) : nullptr;
        if (named == nullptr) return;
        named->is_folder = named->is_folder || record->is_of_folder;
        add_name(*named, key.oid, record->name, xid);
        return;
    }
    FormerFile* file = key.type == APFS_TYPE_INODE || key.type == APFS_TYPE_SIBLING_LINK || key.type == APFS_TYPE_XATTR
                           ? file_of(key.oid, is_live)
                           : nullptr;
    if (file == nullptr) return;
    if (key.type == APFS_TYPE_INODE) {
        if (const auto inode = parse_inode(value)) take_inode(*file, *inode, xid);
    } else if (key.type == APFS_TYPE_SIBLING_LINK) {
        if (const auto sibling = parse_sibling(value)) add_name(*file, sibling->parent, sibling->name, xid);
    } else if (auto attribute = parse_attribute(key_bytes, value)) {
        const auto known = std::find_if(file->attributes.begin(), file->attributes.end(),
                                        [&](const Attribute& one) { return one.name == attribute->name; });
        if (known == file->attributes.end() && file->attributes.size() < kMostNames)
            file->attributes.push_back(std::move(*attribute));
    }
}

void Former::take(const Node& leaf, const IsLive& is_live) {
    const std::uint64_t xid = leaf.xid();
    // Keys stand in order: between two of them the tree had nothing. While a file has a name, that is all it had;
    // afterwards its extents go one by one.
    std::uint64_t stream = 0, first = 0, last = 0;
    bool is_named = false, has_extents = false;
    const auto settle = [&](bool another_follows) {
        const auto known = extents_.find(stream);
        if (known == extents_.end() || !(is_named || has_extents)) return;
        known->second.cover(is_named ? 0 : first, is_named && another_follows ? UINT64_MAX : last, xid);
    };
    for (std::size_t i = 0; i < leaf.count(); ++i) {
        const auto key = parse_fs_key(leaf.key(i));
        if (!key) continue;
        if (key->oid != stream) {
            settle(true);
            stream = key->oid;
            is_named = has_extents = false;
            first = last = 0;
        }
        if (key->type != APFS_TYPE_FILE_EXTENT) {
            const auto inode = key->type == APFS_TYPE_INODE ? parse_inode(leaf.value(i)) : std::nullopt;
            if (inode && inode->is_folder()) note_folder(key->oid, inode->modified);
            is_named = is_named || (inode && has_name(*inode));
            take_file(*key, leaf.key(i), leaf.value(i), xid, is_live);
            continue;
        }
        if (is_live(key->oid) || (extents_.size() >= kMostStreams && !extents_.contains(key->oid))) continue;
        const auto extent = parse_file_extent(*key, leaf.value(i));
        if (!extent) continue;
        if (!has_extents) first = extent->start;
        has_extents = true;
        last = extent->start;
        extents_[key->oid].add(*extent, xid);
    }
    settle(false);
}

void Former::take_remains(const LeafRemains& remains, std::uint64_t xid, const IsLive& is_live) {
    for (const Remnant& remnant : remains.files) {
        if (remnant.inode->is_folder()) note_folder(remnant.number, remnant.inode->modified);
        FormerFile* file = file_of(remnant.number, is_live);
        if (file == nullptr) continue;
        take_inode(*file, *remnant.inode, xid);
        if (remains_.size() >= kMostStreams && !remains_.contains(remnant.number)) continue;
        for (const FileExtent& extent : remnant.extents) remains_[remnant.number].add(extent, xid);
    }
    for (const LooseLink& link : remains.links)
        if (loose_.size() < kMostFiles) loose_[link.name].insert(link.parent);
}

void Former::note_folder(std::uint64_t number, const FileTime& changed) {
    if (folders_at_.size() < kMostFiles) folders_at_[{changed.seconds, changed.nanoseconds}].insert(number);
}

std::uint64_t Former::folder_of(const FormerFile& file, const std::string& name,
                                const std::function<bool(std::uint64_t)>& is_folder) const {
    std::vector<std::uint64_t> likely;
    if (const auto folders = loose_.find(name); folders != loose_.end())
        std::copy_if(folders->second.begin(), folders->second.end(), std::back_inserter(likely), is_folder);
    if (likely.size() == 1) return likely.front();
    std::vector<FileTime> moments;
    if (file.removed) moments.push_back(*file.removed);
    if (file.inode) moments.push_back(file.inode->created);
    for (const FileTime& moment : moments)
        if (const auto folders = folders_at_.find({moment.seconds, moment.nanoseconds});
            folders != folders_at_.end() && folders->second.size() == 1)
            return *folders->second.begin();
    return 0;
}

void Former::settle(const std::function<bool(std::uint64_t)>& is_folder) {
    for (auto& [number, file] : files_) {
        const FormerName* name = file.name();
        if (name == nullptr || name->parent != 0) continue;
        const std::uint64_t folder = folder_of(file, name->name, is_folder);
        if (folder == 0 || folder == number) continue;
        FormerName placed = *name;
        placed.parent = folder;
        placed.parent_is_told = false;
        file.names.push_back(std::move(placed));
    }
}

}  // namespace dredger::apfs
