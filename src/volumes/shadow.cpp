#include "volumes/shadow.h"

#include <algorithm>
#include <boost/endian/arithmetic.hpp>
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
    little_uint64_t relative_offset;
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

struct Named {
    ShadowCopy copy;
    std::uint64_t sequence = 0;
    std::uint64_t block_list = 0;
    bool has_store = false;
};

std::string guid_text(const std::uint8_t (&g)[16]) {
    return fmt::format(
        "{:02x}{:02x}{:02x}{:02x}-{:02x}{:02x}-{:02x}{:02x}-{:02x}{:02x}-{:02x}{:02x}{:02x}{:02x}{:02x}{:02x}", g[3],
        g[2], g[1], g[0], g[5], g[4], g[7], g[6], g[8], g[9], g[10], g[11], g[12], g[13], g[14], g[15]);
}

bool is_block(const BlockHeader& header, RecordType type) {
    return std::equal(std::begin(kIdentifier), std::end(kIdentifier), header.identifier) && header.version >= 1 &&
           header.version <= 2 && header.record_type == type;
}

class ShadowReader {
  public:
    explicit ShadowReader(const Medium& volume) : volume_(volume) {}

    ShadowCopies read() {
        const auto head = bytes_at(volume_, kHeaderPlace, kSector);
        if (!head) return {};
        const auto header = ByteView(*head).as<VolumeHeader>(0);
        if (!header || !is_block(header->block, kVolumeHeader)) return {};
        read_catalog(header->catalog_offset);
        std::vector<Named> named;
        for (auto& [id, one] : named_)
            if (one.copy.size > 0) named.push_back(std::move(one));
        std::sort(named.begin(), named.end(), [](const Named& a, const Named& b) {
            return std::pair(a.copy.made, a.sequence) < std::pair(b.copy.made, b.sequence);
        });
        std::vector<Store> stores(named.size());
        for (std::size_t n = 0; n < named.size(); ++n) {
            if (named[n].has_store && !read_block_list(named[n], stores[n]))
                found_.warnings.push_back(fmt::format(
                    "a part of the shadow copy of {} is damaged: what was kept there is taken as it is today",
                    named[n].copy.made ? short_time(*named[n].copy.made) : "unknown time"));
            named[n].copy.kept = stores[n].blocks.size() * kBlock;
        }
        for (std::size_t n = 0; n < named.size(); ++n) {
            lay(named[n].copy, std::span(stores).subspan(n));
            found_.copies.push_back(std::move(named[n].copy));
        }
        return std::move(found_);
    }

  private:
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

    void read_catalog(std::uint64_t at) {
        if (at == 0) return;
        const bool whole = each_block(at, kCatalogBlock, [&](ByteView view) {
            for (std::uint64_t entry = kBlockHeader; entry + kCatalogEntry <= kBlock; entry += kCatalogEntry)
                read_entry(view, static_cast<std::size_t>(entry));
        });
        if (!whole)
            found_.warnings.emplace_back("the catalog of the shadow copies is damaged: not all of them may be found");
    }

    void read_entry(ByteView view, std::size_t at) {
        const auto copy = view.as<CatalogEntryOfCopy>(at);
        const auto store = view.as<CatalogEntryOfStore>(at);
        if (!copy || !store || (copy->entry_type != 2 && copy->entry_type != 3)) return;
        const std::string id = guid_text(copy->store_identifier);
        if (!named_.contains(id) && named_.size() >= kMostCopies) return;
        Named& named = named_[id];
        named.copy.id = id;
        if (copy->entry_type == 2) {
            named.copy.size = std::min<std::uint64_t>(copy->volume_size, volume_.size());
            named.copy.made = windows_time(copy->creation_time);
            named.sequence = copy->sequence_number;
        } else {
            named.block_list = store->store_block_list_offset;
            named.copy.store = store->store_header_offset;
            named.has_store = true;
        }
    }

    bool read_block_list(const Named& named, Store& store) {
        return each_block(named.block_list, kBlockList, [&](ByteView view) {
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

    // Where a block of the first of these stores' copies lies today. What a store does not keep was not changed until
    // the next copy was made: then the next store tells, and at last today's volume.
    static std::uint64_t place_of(std::uint64_t block, std::span<const Store> stores) {
        for (const Store& store : stores) {
            const auto kept = store.blocks.find(block);
            if (kept == store.blocks.end()) continue;
            if (!kept->second.is_forwarder) return kept->second.at;
            block = kept->second.at;
        }
        return block;
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
            lay_block(block, length, stores, add);
            reached = block + length;
        }
        if (reached < copy.size) add(reached, copy.size - reached);
    }

    template <class Add>
    void lay_block(std::uint64_t block, std::uint64_t length, std::span<const Store> stores, const Add& add) const {
        const std::uint64_t whole = place_of(block, stores);
        const auto overlays = stores.front().overlays.find(block);
        if (overlays == stores.front().overlays.end()) return add(whole, length);
        for (std::uint64_t sector = 0; sector * kSector < length; ++sector) {
            std::uint64_t at = whole;
            for (const Overlay& overlay : overlays->second)
                if ((overlay.sectors >> sector & 1) != 0) at = overlay.at;
            add(at + sector * kSector, std::min(kSector, length - sector * kSector));
        }
    }

    const Medium& volume_;
    ShadowCopies found_;
    std::map<std::string, Named> named_;
};

}  // namespace

ShadowCopies find_shadow_copies(const Medium& volume) { return ShadowReader(volume).read(); }

}  // namespace dredger
