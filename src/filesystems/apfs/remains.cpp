#include "filesystems/apfs/remains.h"

#include <algorithm>
#include <map>

#include "base/text.h"

namespace dredger::apfs {
namespace {

constexpr std::size_t kHeader = sizeof(std::uint64_t);
constexpr std::size_t kLargestInode = 1024;  // bytes of its value

struct Bounds {
    std::uint32_t block;            // bytes
    std::uint64_t blocks, numbers;  // how many the container has, and which no file's number reaches
};

bool is_moment(std::uint64_t nanoseconds) {
    constexpr std::uint64_t kLatest = 2'100'000'000ULL * 1'000'000'000ULL;
    return nanoseconds < kLatest;
}

// How many bytes the value of an inode has by its own fields; 0: it is none.
std::size_t inode_size(ByteView area, std::size_t at, const Bounds& bounds) {
    // Most places are none: their number tells quickly.
    const std::uint64_t number = area.u64le(at + offsetof(JInodeVal, private_id)).value_or(0);
    if (number < MIN_USER_INO_NUM || number >= bounds.numbers) return 0;
    const auto value = area.as<JInodeVal>(at);
    if (!value) return 0;
    const unsigned type = value->mode >> 12U;
    constexpr unsigned kTypes = 0b1'0101'0101'0110;  // of files (S_IF...), in the high four bits of a mode
    if (type > 12 || (kTypes >> type & 1U) == 0 || value->create_time == 0 || !is_moment(value->create_time) ||
        !is_moment(value->mod_time) || !is_moment(value->change_time) || !is_moment(value->access_time))
        return 0;
    const auto blob = area.as<XfBlob>(at + sizeof(JInodeVal));
    constexpr std::size_t kMostFields = 16;
    if (!blob || blob->xf_num_exts > kMostFields) return 0;
    std::size_t size = sizeof(JInodeVal) + sizeof(XfBlob) + blob->xf_num_exts * sizeof(XField);
    for (std::size_t i = 0; i < blob->xf_num_exts; ++i) {
        const auto field = area.as<XField>(at + sizeof(JInodeVal) + sizeof(XfBlob) + i * sizeof(XField));
        if (!field) return 0;
        size += divide_up(field->x_size, 8) * 8;
    }
    return size <= kLargestInode && lies_within(at, size, area.size()) ? size : 0;
}

bool is_extent(const FileExtent& extent, const Bounds& bounds) {
    return extent.paddr != 0 && extent.length % bounds.block == 0 &&
           lies_within(extent.paddr, extent.length / bounds.block, bounds.blocks);
}

class Remains {
  public:
    Remains(const Node& leaf, const Bounds& bounds) : leaf_(leaf), bounds_(bounds), area_(leaf.area()) {}

    LeafRemains read() {
        read_inodes();
        read_extents();
        LeafRemains remains;
        for (const auto& [at, file] : files_) remains.files.push_back(file);
        read_links(remains.links);
        return remains;
    }

  private:
    void read_inodes();
    void read_extents();
    std::optional<FileExtent> extent_at(std::size_t at, std::uint64_t length) const;
    std::optional<std::string> name_in_key(std::size_t at) const;
    void read_links(std::vector<LooseLink>& links) const;

    const Node& leaf_;
    const Bounds bounds_;
    const ByteView area_;
    std::map<std::size_t, std::size_t> given_back_;         // values, by place: their bytes
    std::map<std::size_t, Remnant, std::greater<>> files_;  // by the place of their values, from the area's end back
    std::map<std::size_t, std::size_t> sizes_;              // of these values, by place
};

// Values tell their own number, wherever they stand.
void Remains::read_inodes() {
    for (const Node::Tile& tile : leaf_.value_tiles())
        if (!tile.entry) given_back_[tile.at] = tile.size;
    for (std::size_t at = 0; at + sizeof(JInodeVal) <= area_.size(); ++at) {
        const std::size_t size = inode_size(area_, at, bounds_);
        auto inode = size != 0 ? parse_inode(*area_.slice(at, size)) : std::nullopt;
        if (!inode || inode->size > bounds_.blocks * bounds_.block || inode->allocated % bounds_.block != 0 ||
            inode->allocated < inode->size)
            continue;
        const auto cut = given_back_.find(at);
        if (cut != given_back_.end()) inode->parent = 0;
        if (cut != given_back_.end() ? cut->second != size : inode->parent == 0 || inode->parent >= bounds_.numbers)
            continue;
        files_[at] = {inode->private_id, inode, {}};
        sizes_[at] = size;
        at += size - 1;
    }
}

// The value of a file's only extent, which is so long.
std::optional<FileExtent> Remains::extent_at(std::size_t at, std::uint64_t length) const {
    const auto value = area_.as<JFileExtentVal>(at);
    if (!value) return std::nullopt;
    const auto cut = given_back_.find(at);
    constexpr unsigned kLost = 32;  // bits of the length, where it was given back
    const std::uint64_t told = value->len_and_flags & J_FILE_EXTENT_LEN_MASK;
    const bool is_right = cut != given_back_.end()
                              ? cut->second == sizeof(JFileExtentVal) && told >> kLost == length >> kLost
                              : told == length;
    const FileExtent extent{0, length, value->phys_block_num};
    return is_right && is_extent(extent, bounds_) ? std::optional(extent) : std::nullopt;
}

// A file's extent is told, then its inode anew, with its size: their values stand side by side. In a leaf that was made
// by parting another one, the counter of its stream and then its extent come behind its inode.
void Remains::read_extents() {
    constexpr std::size_t kCounter = 4;  // bytes of that value
    for (auto& [at, file] : files_) {
        if (file.inode->size == 0 || file.inode->is_folder()) continue;
        const std::uint64_t length = divide_up(file.inode->size, bounds_.block) * bounds_.block;
        constexpr std::size_t kBefore = kCounter + sizeof(JFileExtentVal);
        std::optional<FileExtent> extent;
        const bool has_counter =
            at >= kBefore && (!given_back_.contains(at - kCounter) || given_back_.at(at - kCounter) == kCounter);
        if (has_counter) extent = extent_at(at - kBefore, length);
        if (!extent) extent = extent_at(at + sizes_[at], length);
        if (extent) file.extents.push_back(*extent);
    }
}

std::optional<std::string> Remains::name_in_key(std::size_t at) const {
    constexpr std::size_t kHashedHead = kHeader + 4;
    constexpr std::uint32_t kLengthMask = 0x3FF;
    const auto hashed = area_.u32le(at + kHeader);
    const std::size_t length = hashed ? *hashed & kLengthMask : 0;
    const auto name = area_.slice(at + kHashedHead, length);
    if (!name || length < 2) return std::nullopt;
    const std::string text(reinterpret_cast<const char*>(name->bytes().data()), length);
    if (text.find('\0') != length - 1) return std::nullopt;
    return composed(std::string_view(text).substr(0, length - 1));
}

void Remains::read_links(std::vector<LooseLink>& links) const {
    // Keys behind the last one in use are whole: they were here before the leaf was parted.
    constexpr std::size_t kShortest = kHeader + 6;
    for (std::size_t at = leaf_.header().btn_free_space.off; at + kShortest <= area_.size(); ++at) {
        const std::uint64_t head = *area_.u64le(at), parent = head & OBJ_ID_MASK;
        if (head >> OBJ_TYPE_SHIFT != APFS_TYPE_DIR_REC || parent < ROOT_DIR_INO_NUM || parent >= bounds_.numbers)
            continue;
        if (const auto name = name_in_key(at)) links.push_back({parent, *name});
    }
    // Where keys stand in their order, a name that was given back is in the folder whose key comes before it.
    std::uint64_t folder = 0, highest = 0;
    for (const Node::Tile& tile : leaf_.key_tiles()) {
        const auto head = area_.u64le(tile.at);
        if (!head) break;
        const auto type = static_cast<unsigned>(*head >> OBJ_TYPE_SHIFT);
        if (tile.entry) {
            folder = *head & OBJ_ID_MASK;
            if (folder < highest) break;
            highest = folder;
        } else if (type == APFS_TYPE_DIR_REC && folder != 0) {
            if (const auto name = name_in_key(tile.at)) links.push_back({folder, *name});
        } else if (type != APFS_TYPE_DIR_REC) {
            folder = 0;
        }
    }
}

}  // namespace

LeafRemains remains_of(const Node& leaf, std::uint32_t block, std::uint64_t blocks, std::uint64_t numbers) {
    return Remains(leaf, {block, blocks, numbers}).read();
}

}  // namespace dredger::apfs
