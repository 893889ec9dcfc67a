#include "filesystems/hfsplus/catalog.h"

#include <algorithm>

#include "filesystems/posix.h"

namespace dredger::hfsplus {
namespace {

constexpr std::size_t kKeyHead = sizeof(CatalogKey);
constexpr std::size_t kLongestName = 255;          // UTF-16 units
constexpr std::uint32_t kLatest = 4'134'000'000U;  // seconds since 1904: the year 2034, behind which nothing is yet

bool is_sound(const Fork& fork, const Geometry& geometry) {
    std::uint64_t sum = 0;
    bool has_ended = false;
    for (const ExtentDescriptor& extent : fork.extents) {
        if (extent.blockCount == 0) {
            if (extent.startBlock != 0) return false;
            has_ended = true;
            continue;
        }
        if (has_ended || !geometry.holds(extent.startBlock, extent.blockCount)) return false;
        sum += extent.blockCount;
    }
    return sum <= fork.blocks && (sum == fork.blocks || !has_ended) && fork.blocks <= geometry.total_blocks &&
           fork.size <= fork.blocks * geometry.block_size;
}

bool is_sound(const CatalogDates& dates) {
    return std::max({dates.createDate.value(), dates.contentModDate.value(), dates.attributeModDate.value(),
                     dates.accessDate.value()}) < kLatest;
}

bool is_sound(const BSDInfo& permissions, bool is_folder) {
    const unsigned type = permissions.fileMode & kTypeMask;
    return permissions.fileMode == 0 || (is_folder ? type == kFolderType : type != kFolderType);
}

template <class Data>
CatalogItem item_of(const Data& data, ByteView view) {
    CatalogItem item;
    item.created = time_of(data.dates.createDate);
    item.modified = time_of(data.dates.contentModDate);
    item.changed = time_of(data.dates.attributeModDate);
    item.accessed = time_of(data.dates.accessDate);
    item.mode = data.permissions.fileMode;
    item.owner = data.permissions.ownerID;
    item.group = data.permissions.groupID;
    item.special = data.permissions.special;
    item.owner_flags = data.permissions.ownerFlags;
    item.finder = data.finderInfo;
    item.finder_place = {view.origin() + offsetof(Data, finderInfo), sizeof(FinderInfo)};
    return item;
}

// The data of a record; none where it makes no sense. Sets all but the key.
std::optional<CatalogRecord> parse_data(ByteView view, const Geometry& geometry) {
    const auto type = view.as<big_int16_t>(0);
    if (!type) return std::nullopt;
    CatalogRecord record;
    if (*type == kFolderRecord) {
        const auto folder = view.as<CatalogFolder>(0);
        if (!folder || folder->folderID < kRootFolderID || !is_sound(folder->dates) ||
            !is_sound(folder->permissions, true))
            return std::nullopt;
        record.item = item_of(*folder, view);
        record.item->is_folder = true;
        record.item->id = folder->folderID;
        record.size = sizeof(CatalogFolder);
        return record;
    }
    if (*type == kFileRecord) {
        const auto file = view.as<CatalogFile>(0);
        if (!file || file->fileID < kFirstUserCatalogNodeID || !is_sound(file->dates) ||
            !is_sound(file->permissions, false))
            return std::nullopt;
        record.item = item_of(*file, view);
        record.item->id = file->fileID;
        record.item->data = Fork::of(file->dataFork);
        record.item->resource = Fork::of(file->resourceFork);
        if (!is_sound(record.item->data, geometry) || !is_sound(record.item->resource, geometry)) return std::nullopt;
        record.size = sizeof(CatalogFile);
        return record;
    }
    if (*type != kFolderThreadRecord && *type != kFileThreadRecord) return std::nullopt;
    const auto thread = view.as<CatalogThread>(0);
    if (!thread || thread->reserved != 0 || thread->parentID == 0 || thread->nodeNameLength > kLongestName)
        return std::nullopt;
    const auto name = view.slice(sizeof(CatalogThread), thread->nodeNameLength * std::size_t{2});
    if (!name) return std::nullopt;
    record.thread = {thread->parentID, name_of(*name)};
    record.thread_is_of_folder = *type == kFolderThreadRecord;
    record.size = sizeof(CatalogThread) + name->size();
    return record;
}

// The key at `at`, if it is one of `length` bytes and a name that can be.
std::optional<Link> key_at(ByteView view, std::size_t at, std::size_t length) {
    const auto key = view.as<CatalogKey>(at);
    if (!key || key->keyLength + sizeof(big_uint16_t) != length || key->parentID == 0 ||
        key->nodeNameLength * std::size_t{2} + kKeyHead != length)
        return std::nullopt;
    const auto name = view.slice(at + kKeyHead, length - kKeyHead);
    if (!name) return std::nullopt;
    return Link{key->parentID, name_of(*name)};
}

// Puts key and data together; false where they don't go together.
bool take_key(CatalogRecord& record, Link&& key) {
    if (record.item.has_value() == key.name.empty()) return false;
    if (record.item)
        record.link = std::move(key);
    else
        record.thread_of = key.parent;
    return true;
}

// What is left of a file whose start others were written over. A shorter record that takes the place of a longer one
// leaves its forks, or all from its dates on; `at` is where its dates stood.
std::optional<CatalogRecord> parse_end(ByteView view, std::size_t at, const Geometry& geometry) {
    constexpr std::size_t kDatesAt = offsetof(CatalogFile, dates), kForksAt = offsetof(CatalogFile, dataFork);
    const auto forks = view.slice(at + kForksAt - kDatesAt, 2 * sizeof(ForkData));
    if (!forks) return std::nullopt;
    const auto data = *forks->as<ForkData>(0);
    // Most places are none: this tells quickly.
    if (data.logicalSize == 0 || data.totalBlocks == 0 || data.extents[0].blockCount == 0) return std::nullopt;
    CatalogItem item;
    item.data = Fork::of(data);
    item.resource = Fork::of(*forks->as<ForkData>(sizeof(ForkData)));
    if (!is_sound(item.data, geometry) || !is_sound(item.resource, geometry) ||
        divide_up(item.data.size, geometry.block_size) != item.data.blocks)
        return std::nullopt;
    CatalogRecord record;
    record.left = CatalogRecord::Left::forks;
    record.size = kForksAt - kDatesAt + forks->size();
    // What stands in front counts where all of it makes sense together.
    std::array<std::byte, sizeof(CatalogFile)> bytes{};
    const auto there = view.bytes().subspan(at, record.size);
    std::copy(there.begin(), there.end(), bytes.begin() + kDatesAt);
    const auto file = *ByteView(bytes, view.origin() + at - kDatesAt).as<CatalogFile>(0);
    constexpr std::uint32_t kEncodings = 256;
    if (file.dates.createDate != 0 && file.dates.attributeModDate >= file.dates.createDate && is_sound(file.dates) &&
        file.permissions.fileMode != 0 && is_sound(file.permissions, false) && file.textEncoding < kEncodings &&
        file.reserved2 == 0) {
        const Fork data_fork = item.data, resource_fork = item.resource;
        item = item_of(file, ByteView(bytes, view.origin() + at - kDatesAt));
        item.data = data_fork;
        item.resource = resource_fork;
        record.left = CatalogRecord::Left::dates_on;
        const auto id = at >= sizeof(big_uint16_t) ? view.as<big_uint16_t>(at - sizeof(big_uint16_t))->value() : 0;
        if (id != 0) record.id_end = static_cast<std::uint16_t>(id);
    }
    record.item = item;
    return record;
}

}  // namespace

bool CatalogItem::has_type(std::string_view type, std::string_view creator) const {
    return std::equal(type.begin(), type.end(), std::begin(finder.fileType), std::end(finder.fileType),
                      [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; }) &&
           std::equal(creator.begin(), creator.end(), std::begin(finder.fileCreator), std::end(finder.fileCreator),
                      [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
}

// When content was written is set back by whoever copies a file with its dates; when the record was changed is not.
bool CatalogItem::is_later_than(const CatalogItem& other) const {
    const auto changed_at = [](const CatalogItem& item) { return item.changed ? item.changed->seconds : INT64_MIN; };
    if (data.empty() != other.data.empty()) return !data.empty();
    if (changed_at(*this) != changed_at(other)) return changed_at(*this) > changed_at(other);
    return data.size > other.data.size;
}

std::optional<CatalogRecord> parse_catalog_record(ByteView view, const Geometry& geometry) {
    const auto head = view.as<CatalogKey>(0);
    if (!head) return std::nullopt;
    const std::size_t length = std::size_t{head->keyLength} + sizeof(big_uint16_t);
    auto key = key_at(view, 0, length);
    const auto data = view.slice(length, view.size() - std::min(view.size(), length));
    auto record = key && data ? parse_data(*data, geometry) : std::nullopt;
    if (!record || !take_key(*record, std::move(*key))) return std::nullopt;
    return record;
}

void carve_catalog(ByteView area, const Geometry& geometry, const std::function<void(CatalogRecord&&)>& visit) {
    constexpr std::size_t kStep = 2;  // records and their data begin at even places
    for (std::size_t at = area.origin() % kStep; at + sizeof(CatalogThread) <= area.size();) {
        const auto type = area.as<big_int16_t>(at)->value();
        auto record = type >= kFolderRecord && type <= kFileThreadRecord
                          ? parse_data(*area.slice(at, area.size() - at), geometry)
                          : std::nullopt;
        if (record) {
            const std::size_t longest = record->item ? kLongestName : 0;
            for (std::size_t units = record->item ? 1 : 0; units <= longest && kKeyHead + 2 * units <= at; ++units) {
                const std::size_t length = kKeyHead + 2 * units;
                auto key = key_at(area, at - length, length);
                if (key && take_key(*record, std::move(*key))) break;
            }
            // What fits data alone has to tell more than that all of it is zero.
            const bool tells =
                record->link || record->thread_of != 0 ||
                (record->item && !record->item->is_folder && record->item->created && !record->item->data.empty());
            if (!tells) record = std::nullopt;
        }
        if (!record) record = parse_end(area, at, geometry);
        if (!record) {
            at += kStep;
            continue;
        }
        at += record->size;
        visit(std::move(*record));
    }
}

}  // namespace dredger::hfsplus
