#include "filesystems/f2fs/tables.h"

#include <algorithm>
#include <cstring>

#include "base/digest.h"
#include "volumes/trace.h"

namespace dredger::f2fs {
namespace {

constexpr std::uint32_t kMagic = 0xF2F52010;
constexpr unsigned kDataLogs = 3, kNodeLogs = 3;  // hot, warm and cold

// Of the bitmaps of F2FS the highest bit of a byte comes first.
bool bit(std::span<const std::byte> bits, std::uint64_t index) {
    const std::uint64_t byte = index / 8;
    return byte < bits.size() && (std::to_integer<unsigned>(bits[byte]) >> (7 - index % 8) & 1U) != 0;
}

// crc32_le() of Linux with the magic number to begin with, without the inversions that are usual.
std::uint32_t checksum(std::span<const std::byte> bytes) { return ~crc32(bytes, ~kMagic); }

bool is_right(ByteView block, const CheckpointHead& head) {
    const std::uint32_t at = head.checksum_offset;
    if (at < sizeof(CheckpointHead) || at > kBlock - 4) return false;
    const auto said = block.u32le(at);
    return said && *said == checksum(block.bytes().first(at));
}

}  // namespace

std::vector<std::byte> Tables::block(std::uint64_t number) const {
    return bytes_at(*volume_, number * kBlock, kBlock).value_or(std::vector<std::byte>());
}

// Its first and its last block are alike: it was written to its end.
std::optional<Tables::Pack> Tables::pack_at(std::uint32_t at) const {
    Pack pack;
    pack.at = at;
    pack.bytes = block(at);
    const auto head = ByteView(pack.bytes).as<CheckpointHead>(0);
    if (!head || !is_right(ByteView(pack.bytes), *head)) return std::nullopt;
    const std::uint32_t count = head->cp_pack_total_block_count;
    if (count < 2 || count > geometry_.segment_blocks) return std::nullopt;
    const std::vector<std::byte> last = block(std::uint64_t{at} + count - 1);
    const auto foot = ByteView(last).as<CheckpointHead>(0);
    if (!foot || foot->checkpoint_ver != head->checkpoint_ver || !is_right(ByteView(last), *foot)) return std::nullopt;
    pack.head = *head;
    for (std::uint32_t i = 1; i <= geometry_.checkpoint_payload; ++i) {
        const std::vector<std::byte> more = block(std::uint64_t{at} + i);
        pack.bytes.insert(pack.bytes.end(), more.begin(), more.end());
    }
    return pack;
}

Tables Tables::read(MediumPtr volume, const Geometry& geometry, std::vector<std::string>& warnings) {
    Tables tables(std::move(volume), geometry);
    const auto first = tables.pack_at(geometry.checkpoint_at);
    const auto second = tables.pack_at(geometry.checkpoint_at + geometry.segment_blocks);
    const bool takes_second =
        second && (!first || second->head.checkpoint_ver.value() > first->head.checkpoint_ver.value());
    if (takes_second)
        tables.take(*second, warnings);
    else if (first)
        tables.take(*first, warnings);
    else
        warnings.emplace_back("both checkpoints are damaged: what is live can't be told, all is found by its remains");
    return tables;
}

void Tables::take(const Pack& pack, std::vector<std::string>& warnings) {
    const CheckpointHead& head = pack.head;
    version_ = static_cast<std::uint32_t>(head.checkpoint_ver);
    was_unmounted_ = (head.ckpt_flags & CP_UMOUNT_FLAG) != 0;
    const std::size_t nodes = head.nat_ver_bitmap_bytesize, usage = head.sit_ver_bitmap_bytesize;
    std::size_t nodes_at = sizeof(CheckpointHead), usage_at = sizeof(CheckpointHead);
    if ((head.ckpt_flags & CP_LARGE_NAT_BITMAP_FLAG) != 0) {
        nodes_at += 4;
        usage_at += 4 + nodes;
    } else if (geometry_.checkpoint_payload > 0) {
        usage_at = kBlock;
    } else {
        nodes_at += usage;
    }
    const auto part = [&](std::size_t at, std::size_t length) {
        const std::span<const std::byte> all(pack.bytes);
        if (at > all.size() || length > all.size() - at) return std::vector<std::byte>();
        const auto bits = all.subspan(at, length);
        return std::vector<std::byte>(bits.begin(), bits.end());
    };
    node_bitmap_ = part(nodes_at, nodes);
    usage_bitmap_ = part(usage_at, usage);
    if (node_bitmap_.size() != nodes || usage_bitmap_.size() != usage)
        warnings.emplace_back("the checkpoint is damaged: some files may be told as they were before it");
    for (unsigned log = 0; log < kNodeLogs; ++log) open_segments_.push_back(head.cur_node_segno[log]);
    read_journals(pack);
    read_usage();
}

// The journal of node addresses stands in the summaries of hot data, that of usage in those of cold data.
void Tables::read_journals(const Pack& pack) {
    const CheckpointHead& head = pack.head;
    const std::uint64_t count = head.cp_pack_total_block_count, begin = head.cp_pack_start_sum;
    std::vector<std::byte> nodes, usage;
    if ((head.ckpt_flags & CP_COMPACT_SUM_FLAG) != 0) {
        const std::vector<std::byte> both = block(pack.at + begin);
        if (both.size() != kBlock) return;
        nodes.assign(both.begin(), both.begin() + kSummaryJournal);
        usage.assign(both.begin() + kSummaryJournal, both.begin() + 2 * kSummaryJournal);
    } else {
        const unsigned logs = was_unmounted_ ? kDataLogs + kNodeLogs : kDataLogs;
        if (count < logs + 1) return;
        const auto journal = [&](unsigned log) {
            const std::vector<std::byte> summary = block(pack.at + count - (logs + 1) + log);
            if (summary.size() != kBlock) return std::vector<std::byte>();
            return std::vector<std::byte>(summary.begin() + kSummaryEntries,
                                          summary.begin() + kSummaryEntries + kSummaryJournal);
        };
        nodes = journal(0);
        usage = journal(2);
    }
    const auto read = [](const std::vector<std::byte>& journal, auto sample, const auto& keep) {
        const ByteView view(journal);
        const std::uint16_t entries = view.u16le(0).value_or(0);
        for (std::size_t i = 0; i < entries; ++i) {
            const auto entry = view.as<decltype(sample)>(2 + i * sizeof sample);
            if (!entry) break;
            keep(*entry);
        }
    };
    read(nodes, NatJournalEntry(), [&](const NatJournalEntry& entry) { newer_nodes_[entry.nid] = entry.ne; });
    read(usage, SitJournalEntry(), [&](const SitJournalEntry& entry) { newer_usage_[entry.segno] = entry.se; });
}

void Tables::read_usage() {
    const std::uint64_t copy = std::uint64_t{geometry_.sit_segments} / 2 * geometry_.segment_blocks;
    std::vector<std::byte> bytes;
    for (std::uint32_t segment = 0; segment < geometry_.main_segments; ++segment) {
        const std::uint32_t number = segment / kSitEntriesPerBlock, index = segment % kSitEntriesPerBlock;
        if (index == 0) bytes = block(geometry_.sit_at + number + (bit(usage_bitmap_, number) ? copy : 0));
        auto entry = ByteView(bytes).as<SitEntry>(index * sizeof(SitEntry));
        if (const auto newer = newer_usage_.find(segment); newer != newer_usage_.end()) entry = newer->second;
        if (!entry) continue;
        for (std::uint32_t i = 0; i < geometry_.segment_blocks; ++i)
            if (bit(entry->valid_map, i)) space_.take(std::uint64_t{segment} * geometry_.segment_blocks + i);
    }
}

std::uint32_t Tables::block_of(std::uint32_t node) const {
    if (!has_checkpoint() || node >= geometry_.nodes()) return 0;
    std::uint32_t at = 0;
    if (const auto newer = newer_nodes_.find(node); newer != newer_nodes_.end()) {
        at = newer->second.block_addr;
    } else {
        // Each block of the table has a second place, a segment behind the first.
        const std::uint64_t number = node / kNatEntriesPerBlock, segment = geometry_.segment_blocks;
        std::uint64_t place = geometry_.nat_at + number * 2 - number % segment;
        if (bit(node_bitmap_, number)) place += segment;
        const std::vector<std::byte> bytes = block(place);
        const auto entry = ByteView(bytes).as<NatEntry>(node % kNatEntriesPerBlock * sizeof(NatEntry));
        if (entry) at = entry->block_addr;
    }
    return geometry_.is_in_main(at) ? at : 0;
}

bool Tables::holds_nodes(std::uint32_t segment) const {
    if (std::find(open_segments_.begin(), open_segments_.end(), segment) != open_segments_.end()) return true;
    const std::uint64_t at = (std::uint64_t{geometry_.summaries_at} + segment) * kBlock + kSummaryFooterAt;
    const auto type = bytes_at(*volume_, at, 1);
    return type && type->front() == std::byte{SUM_TYPE_NODE};
}

}  // namespace dredger::f2fs
