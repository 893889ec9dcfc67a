#include "filesystems/ext/journal.h"

#include <algorithm>
#include <map>
#include <unordered_map>

#include "media/content.h"

namespace dredger::ext {
namespace {

using boost::endian::big_uint16_t;
using boost::endian::big_uint32_t;
using boost::endian::big_uint64_t;

struct JournalHeader {
    big_uint32_t h_magic;
    big_uint32_t h_blocktype;
    big_uint32_t h_sequence;
};
struct JournalSuperBlock {
    JournalHeader s_header;
    big_uint32_t s_blocksize;
    big_uint32_t s_maxlen;
    big_uint32_t s_first;
    big_uint32_t s_sequence;
    big_uint32_t s_start;
    big_uint32_t s_errno;
    big_uint32_t s_feature_compat;
    big_uint32_t s_feature_incompat;
    big_uint32_t s_feature_ro_compat;
    std::uint8_t s_uuid[16];
};
struct BlockTag3 {
    big_uint32_t t_blocknr;
    big_uint32_t t_flags;
    big_uint32_t t_blocknr_high;
    big_uint32_t t_checksum;
};
struct BlockTag {
    big_uint32_t t_blocknr;
    big_uint16_t t_checksum;
    big_uint16_t t_flags;
    big_uint32_t t_blocknr_high;  // with 64-bit numbers only
};
struct RevokeHeader {
    JournalHeader r_header;
    big_uint32_t r_count;  // bytes in use, with this header
};

constexpr std::uint32_t kMagic = 0xC03B3998;
constexpr std::string_view kMagicBytes = "\xC0\x3B\x39\x98";
enum BlockType : std::uint32_t { kDescriptor = 1, kCommit = 2, kSuperBlock1 = 3, kSuperBlock2 = 4, kRevoke = 5 };
// s_feature_incompat
constexpr std::uint32_t k64Bit = 0x2, kChecksum2 = 0x8, kChecksum3 = 0x10;
// t_flags
constexpr std::uint32_t kEscaped = 1, kSameUuid = 2, kLastTag = 8;
constexpr std::size_t kUuid = 16, kTail = 4;              // bytes
constexpr std::size_t kMaxCopies = std::size_t{1} << 23;  // 32 GiB of 4 KiB blocks

// Sequence numbers go round.
bool is_before(std::uint32_t a, std::uint32_t b) { return static_cast<std::int32_t>(a - b) < 0; }

// A block of the journal by its own word.
struct Told {
    std::uint32_t type, sequence;
    std::vector<BlockCopy> copies;       // of a descriptor
    std::vector<std::uint64_t> revoked;  // blocks of the volume whose earlier copies don't count any more
};

}  // namespace

// The journal's area while it is taken apart.
struct Journal::Log {
    Content content;
    JournalSuperBlock super;
    std::uint64_t block_size;
    std::uint64_t first, behind;  // blocks of the journal that hold the log
    Crc32c seed;

    bool has(std::uint32_t feature) const {
        return super.s_header.h_blocktype == kSuperBlock2 && (super.s_feature_incompat & feature) != 0;
    }
    bool has_checksums() const { return has(kChecksum2) || has(kChecksum3); }
    std::uint64_t wrapped(std::uint64_t block) const { return block < behind ? block : block - behind + first; }

    std::vector<std::byte> block(std::uint64_t number) const {
        std::vector<std::byte> bytes(static_cast<std::size_t>(block_size));
        std::vector<Extent> bad;
        if (!content.read(number * block_size, bytes, &bad) || !bad.empty()) bytes.clear();
        return bytes;
    }

    std::optional<std::uint64_t> place_of(std::uint64_t number) const {
        const auto places = content.places_of(number * block_size, block_size);
        // Blocks of the journal are blocks of the volume.
        return places.size() == 1 && places[0].is_stored() ? std::optional(places[0].offset) : std::nullopt;
    }

    // Descriptor and revoke blocks end in a checksum.
    bool tail_agrees(ByteView block) const {
        if (!has_checksums()) return true;
        const auto tail = block.as<big_uint32_t>(block.size() - kTail);
        Crc32c crc = seed;
        return crc.add(block.bytes().first(block.size() - kTail)).add_value(big_uint32_t(0)).value() == *tail;
    }

    // The copies that the descriptor block `number` tells of.
    std::vector<BlockCopy> copies_after(std::uint64_t number, ByteView descriptor) const {
        std::vector<BlockCopy> copies;
        const std::uint32_t sequence = descriptor.as<JournalHeader>(0)->h_sequence;
        const std::size_t tag_size = has(kChecksum3) ? sizeof(BlockTag3) : has(k64Bit) ? sizeof(BlockTag) : 8;
        const std::size_t end = descriptor.size() - (has_checksums() ? kTail : 0);
        std::uint64_t next = number;
        for (std::size_t at = sizeof(JournalHeader); at + tag_size <= end;) {
            next = wrapped(next + 1);
            BlockCopy copy;
            copy.sequence = sequence;
            std::uint32_t flags = 0;
            if (has(kChecksum3)) {
                const auto tag = *descriptor.as<BlockTag3>(at);
                copy.block = tag.t_blocknr | (has(k64Bit) ? std::uint64_t{tag.t_blocknr_high} << 32U : 0);
                flags = tag.t_flags;
            } else {
                copy.block = descriptor.as<big_uint32_t>(at)->value();
                flags = descriptor.as<big_uint16_t>(at + offsetof(BlockTag, t_flags))->value();
                if (has(k64Bit))
                    copy.block |=
                        std::uint64_t{descriptor.as<big_uint32_t>(at + offsetof(BlockTag, t_blocknr_high))->value()}
                        << 32U;
            }
            copy.escaped = (flags & kEscaped) != 0;
            if (const auto place = place_of(next); place && next != number) {
                copy.place = *place;
                copies.push_back(copy);
            }
            at += tag_size + ((flags & kSameUuid) == 0 ? kUuid : 0);
            if ((flags & kLastTag) != 0) break;
        }
        return copies;
    }

    std::vector<BlockCopy> unsettled_in(const std::map<std::uint64_t, Told>& told) const;

    // What each block of the log holds by its own word.
    std::map<std::uint64_t, Told> told_blocks() const {
        constexpr std::uint64_t kAtOnce = std::uint64_t{1} << 20;  // bytes
        std::map<std::uint64_t, Told> told;
        std::size_t count = 0;
        std::vector<std::byte> chunk;
        for (std::uint64_t at = first; at < behind && count < kMaxCopies;) {
            const std::uint64_t blocks = std::min(std::max<std::uint64_t>(1, kAtOnce / block_size), behind - at);
            chunk.resize(static_cast<std::size_t>(blocks * block_size));
            std::vector<Extent> bad;  // comes as zeros, which tell nothing
            if (!content.read(at * block_size, chunk, &bad)) break;
            for (std::size_t i = 0; i < blocks; ++i, ++at) {
                const auto bytes = std::span(chunk).subspan(i * static_cast<std::size_t>(block_size),
                                                            static_cast<std::size_t>(block_size));
                if (auto one = told_by(at, ByteView(bytes))) {
                    count += one->copies.size();
                    told.emplace(at, std::move(*one));
                }
            }
        }
        return told;
    }

    std::optional<Told> told_by(std::uint64_t number, ByteView block) const {
        const auto header = *block.as<JournalHeader>(0);
        if (header.h_magic != kMagic) return std::nullopt;
        Told one{header.h_blocktype, header.h_sequence, {}, {}};
        switch (header.h_blocktype) {
            case kCommit: return one;
            case kDescriptor:
                if (!tail_agrees(block)) return std::nullopt;
                one.copies = copies_after(number, block);
                return one;
            case kRevoke:
                if (!tail_agrees(block)) return std::nullopt;
                one.revoked = revoked_by(block);
                return one;
            default: return std::nullopt;
        }
    }

    std::vector<std::uint64_t> revoked_by(ByteView block) const {
        std::vector<std::uint64_t> revoked;
        const std::size_t size = has(k64Bit) ? 8 : 4;
        const std::size_t end = std::min<std::size_t>(block.as<RevokeHeader>(0)->r_count, block.size());
        for (std::size_t at = sizeof(RevokeHeader); at + size <= end; at += size)
            revoked.push_back(size == 8 ? block.as<big_uint64_t>(at)->value() : block.as<big_uint32_t>(at)->value());
        return revoked;
    }
};

namespace {

// Those copies whose place no later transaction has for its own, by block and age.
std::vector<BlockCopy> surviving(const std::map<std::uint64_t, Told>& told,
                                 const std::function<std::optional<std::uint64_t>(std::uint64_t)>& place_of) {
    std::unordered_map<std::uint64_t, std::uint32_t> last;  // by place: the last transaction that used it
    for (const auto& [at, one] : told) {
        const auto claim = [&last, sequence = one.sequence](std::uint64_t place) {
            const auto [was, is_new] = last.try_emplace(place, sequence);
            if (!is_new && is_before(was->second, sequence)) was->second = sequence;
        };
        if (const auto place = place_of(at)) claim(*place);
        for (const BlockCopy& copy : one.copies) claim(copy.place);
    }
    std::vector<BlockCopy> copies;
    for (const auto& [at, one] : told)
        for (const BlockCopy& copy : one.copies)
            if (last.at(copy.place) == one.sequence) copies.push_back(copy);
    std::sort(copies.begin(), copies.end(), [](const BlockCopy& a, const BlockCopy& b) {
        return a.block != b.block ? a.block < b.block : is_before(a.sequence, b.sequence);
    });
    return copies;
}

}  // namespace

// From the log's start on, one transaction after the other, as far as they are committed.
std::vector<BlockCopy> Journal::Log::unsettled_in(const std::map<std::uint64_t, Told>& told) const {
    std::map<std::uint64_t, BlockCopy> newest;                 // by block
    std::unordered_map<std::uint64_t, std::uint32_t> revoked;  // by block: the last transaction that did
    std::vector<BlockCopy> committed, pending;
    std::uint32_t sequence = super.s_sequence;
    std::uint64_t at = super.s_start;
    for (std::uint64_t steps = 0; super.s_start != 0 && steps < behind; ++steps) {
        const auto one = told.find(at);
        if (one == told.end() || one->second.sequence != sequence) break;
        pending.insert(pending.end(), one->second.copies.begin(), one->second.copies.end());
        for (const std::uint64_t block : one->second.revoked) revoked[block] = sequence;
        if (one->second.type == kCommit) {
            committed.insert(committed.end(), pending.begin(), pending.end());
            pending.clear();
            ++sequence;
        }
        at = wrapped(at + 1 + one->second.copies.size());
    }
    for (const BlockCopy& copy : committed) {
        const auto revoke = revoked.find(copy.block);
        if (revoke == revoked.end() || is_before(revoke->second, copy.sequence)) newest[copy.block] = copy;
    }
    std::vector<BlockCopy> unsettled;
    unsettled.reserve(newest.size());
    for (const auto& [block, copy] : newest) unsettled.push_back(copy);
    return unsettled;
}

Journal Journal::read(const MediumPtr& volume, const Geometry& geometry, const std::vector<Extent>& extents) {
    Journal journal(volume, geometry);
    Log log{Content(volume, extents), {}, geometry.block_size, 0, 0, Crc32c()};
    const auto first_block = log.block(0);
    const auto super = ByteView(first_block).as<JournalSuperBlock>(0);
    if (!super || super->s_header.h_magic != kMagic || super->s_blocksize != geometry.block_size) return journal;
    log.super = *super;
    log.first = std::max<std::uint64_t>(1, super->s_first);
    log.behind = std::min<std::uint64_t>(super->s_maxlen, log.content.size() / log.block_size);
    log.seed.add(std::as_bytes(std::span(log.super.s_uuid)));
    if (log.first >= log.behind) return journal;
    const auto told = log.told_blocks();
    journal.copies_ = surviving(told, [&](std::uint64_t block) { return log.place_of(block); });
    std::erase_if(journal.copies_, [&](const BlockCopy& copy) { return !geometry.holds(copy.block); });
    journal.unsettled_ = log.unsettled_in(told);
    return journal;
}

std::span<const BlockCopy> Journal::copies_of(std::uint64_t block) const {
    const auto first =
        std::partition_point(copies_.begin(), copies_.end(), [&](const BlockCopy& copy) { return copy.block < block; });
    const auto last =
        std::partition_point(first, copies_.end(), [&](const BlockCopy& copy) { return copy.block == block; });
    return {first, last};
}

std::uint64_t Journal::place_now(std::uint64_t offset) const {
    if (unsettled_.empty()) return offset;
    const std::uint64_t block = offset / geometry_.block_size;
    const auto copy = std::partition_point(unsettled_.begin(), unsettled_.end(),
                                           [&](const BlockCopy& one) { return one.block < block; });
    return copy != unsettled_.end() && copy->block == block ? copy->place + offset % geometry_.block_size : offset;
}

std::vector<std::byte> Journal::bytes_of(const BlockCopy& copy) const {
    auto bytes = volume_->bytes(copy.place, static_cast<std::size_t>(geometry_.block_size));
    if (!bytes) return {};
    if (copy.escaped) std::memcpy(bytes->data(), kMagicBytes.data(), kMagicBytes.size());
    // A block that begins like one of the journal's own is one: the copy was overwritten.
    else if (ByteView(*bytes).has(0, kMagicBytes))
        return {};
    return std::move(*bytes);
}

namespace {

class PlayedBack final : public Medium {
  public:
    PlayedBack(MediumPtr volume, std::uint64_t block_size, const Journal& journal)
        : volume_(std::move(volume)), block_size_(block_size) {
        for (const BlockCopy& copy : journal.unsettled()) places_[copy.block] = copy;
    }

    std::uint64_t size() const override { return volume_->size(); }
    std::uint32_t sector_size() const override { return volume_->sector_size(); }
    std::string name() const override { return volume_->name(); }
    void expect(std::uint64_t offset, std::uint64_t length) const override { volume_->expect(offset, length); }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override {
        for (std::size_t done = 0; done < into.size();) {
            const std::uint64_t at = offset + done;
            auto copy = places_.lower_bound(at / block_size_);
            std::uint64_t until = offset + into.size();
            const bool is_copied = copy != places_.end() && copy->first == at / block_size_;
            if (is_copied)
                until = std::min(until, (copy->first + 1) * block_size_);
            else if (copy != places_.end())
                until = std::min(until, copy->first * block_size_);
            const auto part = into.subspan(done, static_cast<std::size_t>(until - at));
            const std::size_t before = bad.size();
            const std::uint64_t from = is_copied ? copy->second.place + at % block_size_ : at;
            DREDGER_CHECK(volume_->read(from, part, &bad));
            for (std::size_t i = before; i < bad.size(); ++i) bad[i].offset = bad[i].offset - from + at;
            if (is_copied && copy->second.escaped)
                for (std::uint64_t i = at % block_size_; i < kMagicBytes.size() && i - at % block_size_ < part.size();
                     ++i)
                    part[static_cast<std::size_t>(i - at % block_size_)] = std::byte(kMagicBytes[i]);
            done += part.size();
        }
        return {};
    }

  private:
    MediumPtr volume_;
    std::uint64_t block_size_;
    std::map<std::uint64_t, BlockCopy> places_;  // by block
};

}  // namespace

MediumPtr played_back(MediumPtr volume, const Geometry& geometry, const Journal& journal) {
    if (journal.unsettled().empty()) return volume;
    return std::make_shared<PlayedBack>(std::move(volume), geometry.block_size, journal);
}

}  // namespace dredger::ext
