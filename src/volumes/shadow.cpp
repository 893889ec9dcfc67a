#include "volumes/shadow.h"

#include <algorithm>
#include <array>
#include <boost/endian/arithmetic.hpp>
#include <cstring>
#include <fmt/format.h>
#include <map>
#include <set>

#include "base/checked.h"
#include "volumes/trace.h"

namespace dredger {
namespace {

using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

constexpr std::uint64_t kBlock = 0x4000;        // bytes: of all structures, and of what is kept
constexpr std::uint64_t kHeaderPlace = 0x1E00;  // of the volume's header
constexpr std::uint64_t kBlockHeader = 128;     // bytes
constexpr std::uint64_t kSector = 512;
constexpr std::size_t kMostCopies = 512;       // a volume keeps at most so many
constexpr std::size_t kMostBlocks = 1U << 20;  // of a chain of structures
constexpr unsigned char kIdentifier[16] = {0x6B, 0x87, 0x08, 0x38, 0x76, 0xC1, 0x48, 0x4E,
                                           0xB7, 0xAE, 0x04, 0x04, 0x6E, 0x6C, 0xC7, 0x52};

enum RecordType : std::uint32_t { kVolumeHeader = 1, kCatalogBlock = 2, kBlockList = 3, kStoreHeader = 4 };

// All structures begin so; offsets count from the start of the volume.
struct BlockHeader {
    std::uint8_t identifier[16];
    little_uint32_t version;
    little_uint32_t record_type;
    little_uint64_t relative_offset;  // within the store
    little_uint64_t current_offset;
    little_uint64_t next_offset;  // of the next block of its kind; 0: it is the last. Not of the volume's header
};
static_assert(sizeof(BlockHeader) == 48);

struct VolumeHeader {
    BlockHeader block;
    little_uint64_t catalog_offset;
    little_uint64_t maximum_size;
};
static_assert(sizeof(VolumeHeader) == 64);

// Entries of the catalog, 128 bytes each: two of each copy, with the same store_identifier.
struct CatalogEntryOfCopy {
    little_uint64_t entry_type;  // 2
    little_uint64_t volume_size;
    std::uint8_t store_identifier[16];
    little_uint64_t sequence_number;
    little_uint64_t flags;
    little_uint64_t creation_time;  // FILETIME
};
struct CatalogEntryOfStore {
    little_uint64_t entry_type;  // 3
    little_uint64_t store_block_list_offset;
    std::uint8_t store_identifier[16];
    little_uint64_t store_header_offset;
    little_uint64_t store_block_range_list_offset;
    little_uint64_t store_bitmap_offset;
};
constexpr std::uint64_t kCatalogEntry = 128;

struct BlockListEntry {
    little_uint64_t original_offset;
    little_uint64_t relative_offset;  // within the store; of a forwarder: where the block went on in the next store
    little_uint64_t store_offset;
    little_uint32_t flags;
    little_uint32_t allocation_bitmap;  // of an overlay: the sectors that it keeps, the lowest bit first
};
static_assert(sizeof(BlockListEntry) == 32);
enum BlockFlags : std::uint32_t { kForwarder = 1, kOverlay = 2, kNotUsed = 4 };

struct Kept {
    std::uint64_t at = 0;  // on the volume; of a forwarder: the block in the next store
    bool is_forwarder = false;
};
struct Overlay {
    std::uint64_t at = 0;
    std::uint32_t sectors = 0;
};
// What a store says of blocks, by their place on the volume.
struct Store {
    std::map<std::uint64_t, Kept> blocks;
    std::map<std::uint64_t, std::vector<Overlay>> overlays;
};

using StoreId = std::array<std::uint8_t, 16>;

struct Named {
    ShadowCopy copy;
    std::uint64_t order = 0;  // among copies made at one time
    std::uint64_t block_list = 0;
    bool order_is_known = true;
};

bool is_block(const BlockHeader& header, RecordType type) {
    return std::equal(std::begin(kIdentifier), std::end(kIdentifier), header.identifier) && header.version >= 1 &&
           header.version <= 2 && header.record_type == type;
}

class ShadowReader {
  public:
    explicit ShadowReader(const Medium& volume) : volume_(volume) {}

    void read_catalog() {
        const auto head = bytes_at(volume_, kHeaderPlace, kSector);
        if (!head) return;
        const auto header = ByteView(*head).as<VolumeHeader>(0);
        if (!header || !is_block(header->block, kVolumeHeader) || header->catalog_offset == 0) return;
        found_.lacks_catalog = !each_block(header->catalog_offset, kCatalogBlock, [&](ByteView view) {
            for (std::uint64_t entry = kBlockHeader; entry + kCatalogEntry <= kBlock; entry += kCatalogEntry)
                read_entry(view, static_cast<std::size_t>(entry));
        });
    }

    bool lacks_catalog() const { return found_.lacks_catalog; }
    void warn(const char* sentence) { found_.warnings.emplace_back(sentence); }

    // Adds what no catalog names: each chain of block lists is a store's.
    void search(std::span<const ShadowFile> files, const std::function<bool(std::uint64_t, std::uint64_t)>& go_on) {
        const ShadowFile everywhere{{{0, volume_.size()}}, {}};
        if (files.empty()) files = {&everywhere, 1};
        found_.lacks_catalog = true;
        std::uint64_t total = 0, done = 0;
        for (const ShadowFile& file : files)
            for (const Extent& extent : file.extents) total += extent.length;
        Traces traces;
        for (std::size_t n = 0; n < files.size(); ++n)
            for (const Extent& extent : files[n].extents) {
                const std::uint64_t end = extent.is_stored() ? std::min(extent.end(), volume_.size()) : 0;
                for (std::uint64_t at = divide_up(extent.offset, kBlock) * kBlock; at < end; at += kBlock) {
                    if (at % (kBlock * 256) == 0 && !go_on(done + at - extent.offset, total)) return;
                    note(at, n, traces);
                }
                done += extent.length;
            }
        name_stores(files, traces);
    }

    ShadowCopies copies() {
        std::vector<Named> named;
        for (auto& [id, one] : named_)
            if (one.copy.size > 0) named.push_back(std::move(one));
        std::sort(named.begin(), named.end(), [](const Named& a, const Named& b) {
            return std::pair(a.copy.made, a.order) < std::pair(b.copy.made, b.order);
        });
        std::vector<Store> stores(named.size());
        for (std::size_t n = 0; n < named.size(); ++n) {
            named[n].copy.is_whole = named[n].block_list != 0 && read_block_list(named[n].block_list, stores[n]);
            if (named[n].copy.is_whole && !named[n].order_is_known) {
                named[n].copy.is_whole = false;
                found_.warnings.push_back(fmt::format(
                    "when the shadow copy whose store begins at byte {} was made is not known: those that stand before "
                    "it are taken for older",
                    named[n].copy.store));
            } else if (!named[n].copy.is_whole)
                found_.warnings.push_back(fmt::format(
                    "a part of the shadow copy of {} is damaged: what was kept there is taken as it is today",
                    named[n].copy.made ? short_time(*named[n].copy.made) : "unknown time"));
        }
        // A copy is read through the stores of all later ones.
        for (std::size_t n = named.size(); n-- > 1;)
            if (!named[n].copy.is_whole) named[n - 1].copy.is_whole = false;
        for (std::size_t n = 0; n < named.size(); ++n) {
            lay(named[n].copy, std::span(stores).subspan(n));
            found_.copies.push_back(std::move(named[n].copy));
        }
        return std::move(found_);
    }

  private:
    // Blocks by their place, as a search meets them.
    struct Traces {
        std::map<std::uint64_t, std::size_t> lists;    // in which file
        std::set<std::uint64_t> continued;             // lists that another one names as its next
        std::map<std::uint64_t, std::size_t> headers;  // of stores
    };

    // Calls `visit` with each block of a chain; false: it is broken somewhere.
    template <class Visit>
    bool each_block(std::uint64_t first, RecordType type, const Visit& visit) {
        std::set<std::uint64_t> seen;
        for (std::uint64_t at = first; at != 0;) {
            const auto bytes = bytes_at(volume_, at, kBlock);
            if (!bytes || !seen.insert(at).second || seen.size() > kMostBlocks) return false;
            const ByteView view(*bytes);
            const auto header = view.as<BlockHeader>(0);
            if (!header || !is_block(*header, type)) return false;
            visit(view);
            at = header->next_offset;
        }
        return true;
    }

    Named* named(const StoreId& id) {
        if (!named_.contains(id) && named_.size() >= kMostCopies) return nullptr;
        return &named_[id];
    }

    void read_entry(ByteView view, std::size_t at) {
        const auto copy = view.as<CatalogEntryOfCopy>(at);
        const auto store = view.as<CatalogEntryOfStore>(at);
        if (!copy || !store || (copy->entry_type != 2 && copy->entry_type != 3)) return;
        Named* one = named(std::to_array(copy->store_identifier));
        if (one == nullptr) return;
        if (copy->entry_type == 2) {
            one->copy.size = std::min<std::uint64_t>(copy->volume_size, volume_.size());
            one->copy.made = windows_time(copy->creation_time);
            one->order = copy->sequence_number;
        } else {
            one->block_list = store->store_block_list_offset;
            one->copy.store = store->store_header_offset;
        }
    }

    void note(std::uint64_t at, std::size_t file, Traces& traces) const {
        const auto bytes = bytes_at(volume_, at, sizeof(BlockHeader));
        if (!bytes) return;
        const auto header = ByteView(*bytes).as<BlockHeader>(0);
        if (!header || header->current_offset != at) return;
        if (is_block(*header, kStoreHeader)) traces.headers[at] = file;
        if (!is_block(*header, kBlockList)) return;
        traces.lists[at] = file;
        if (header->next_offset != 0) traces.continued.insert(header->next_offset);
    }

    // A store of its own file has the time of that file. Where a file holds more than one nobody knows whose turn is
    // when: the first to stand there was made first.
    void name_stores(std::span<const ShadowFile> files, const Traces& traces) {
        std::set<std::uint64_t> told;
        std::map<std::size_t, std::size_t> in_file;
        std::set<std::uint64_t> places;  // of stores: each names one copy
        for (const auto& [id, one] : named_) {
            told.insert(one.block_list);
            places.insert(one.copy.store);
        }
        for (const auto& [at, file] : traces.lists)
            if (!traces.continued.contains(at)) ++in_file[file];
        for (const auto& [at, file] : traces.lists) {
            if (traces.continued.contains(at) || told.contains(at)) continue;
            StoreId id{};
            std::memcpy(id.data(), &at, sizeof at);
            Named* one = named(id);
            if (one == nullptr) return;
            one->block_list = at;
            one->order = at;
            one->copy.size = volume_.size();
            one->order_is_known = in_file[file] == 1 && files[file].made;
            if (one->order_is_known) one->copy.made = files[file].made;
            // The header of a store stands before its lists.
            const auto header = traces.headers.upper_bound(at);
            one->copy.store = header != traces.headers.begin() ? std::prev(header)->first : at;
            if (!places.insert(one->copy.store).second) one->copy.store = at;
        }
    }

    bool read_block_list(std::uint64_t first, Store& store) {
        return each_block(first, kBlockList, [&](ByteView view) {
            for (std::uint64_t at = kBlockHeader; at + sizeof(BlockListEntry) <= kBlock; at += sizeof(BlockListEntry)) {
                const auto entry = view.as<BlockListEntry>(static_cast<std::size_t>(at));
                if (!entry) return;
                const std::uint64_t original = entry->original_offset, kept = entry->store_offset;
                if ((entry->flags & kNotUsed) != 0 || original % kBlock != 0 ||
                    (original == 0 && kept == 0 && entry->relative_offset == 0))
                    continue;
                if ((entry->flags & kOverlay) != 0) {
                    if (lies_within(kept, kBlock, volume_.size()))
                        store.overlays[original].push_back({kept, entry->allocation_bitmap});
                } else if ((entry->flags & kForwarder) != 0) {
                    store.blocks[original] = {entry->relative_offset, true};
                } else if (lies_within(kept, kBlock, volume_.size())) {
                    store.blocks[original] = {kept, false};
                }
            }
        });
    }

    void lay(ShadowCopy& copy, std::span<const Store> stores) const {
        // Only blocks that some store speaks of lie elsewhere.
        std::set<std::uint64_t> changed;
        for (const Store& store : stores) {
            for (const auto& [block, kept] : store.blocks) changed.insert(block);
            for (const auto& [block, overlays] : store.overlays) changed.insert(block);
        }
        std::uint64_t reached = 0;
        const auto add = [&](std::uint64_t at, std::uint64_t length) {
            const std::uint64_t there = at < volume_.size() ? std::min(length, volume_.size() - at) : 0;
            if (there > 0) append(copy.pieces, {at, there});
            if (there < length) append(copy.pieces, Extent::unknown(length - there));
        };
        for (const std::uint64_t block : changed) {
            if (block >= copy.size) break;
            if (block > reached) add(reached, block - reached);
            const std::uint64_t length = std::min(kBlock, copy.size - block);
            for (std::uint64_t within = 0; within < length; within += kSector)
                add(place_of(block, within, stores), std::min(kSector, length - within));
            reached = block + length;
        }
        if (reached < copy.size) add(reached, copy.size - reached);
    }

    // Where a sector of a block of the first of these stores' copies lies today. What a store does not keep was not
    // changed until the next copy was made: then the next store tells, and at last today's volume.
    static std::uint64_t place_of(std::uint64_t block, std::uint64_t within, std::span<const Store> stores) {
        for (const Store& store : stores) {
            if (const auto overlays = store.overlays.find(block); overlays != store.overlays.end())
                for (auto overlay = overlays->second.rbegin(); overlay != overlays->second.rend(); ++overlay)
                    if ((overlay->sectors >> (within / kSector) & 1) != 0) return overlay->at + within;
            const auto kept = store.blocks.find(block);
            if (kept == store.blocks.end()) continue;
            if (!kept->second.is_forwarder) return kept->second.at + within;
            block = kept->second.at;
        }
        return block + within;
    }

    const Medium& volume_;
    ShadowCopies found_;
    std::map<StoreId, Named> named_;
};

}  // namespace

ShadowCopies find_shadow_copies(const Medium& volume) {
    ShadowReader reader(volume);
    reader.read_catalog();
    if (reader.lacks_catalog())
        reader.warn("the catalog of the shadow copies is damaged: a scan looks for their stores");
    return reader.copies();
}

ShadowCopies find_lost_shadow_copies(const Medium& volume, std::span<const ShadowFile> files,
                                     const std::function<bool(std::uint64_t, std::uint64_t)>& go_on) {
    ShadowReader reader(volume);
    reader.read_catalog();
    reader.search(files, go_on);
    reader.warn("the catalog of the shadow copies is lost: they were looked for by their blocks");
    return reader.copies();
}

}  // namespace dredger
