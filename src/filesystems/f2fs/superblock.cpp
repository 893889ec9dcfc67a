#include "filesystems/f2fs/superblock.h"

#include <algorithm>

#include "base/text.h"

namespace dredger::f2fs {

std::optional<Geometry> parse_superblock(ByteView bytes) {
    const auto sb = bytes.as<SuperBlock>(0);
    if (!sb || sb->magic != 0xF2F52010 || sb->log_blocksize != 12) return std::nullopt;
    if (sb->log_blocks_per_seg != 9 || sb->segs_per_sec == 0) return std::nullopt;
    Geometry g;
    g.blocks = sb->block_count;
    g.segment_blocks = 1U << sb->log_blocks_per_seg;
    g.checkpoint_at = sb->cp_blkaddr;
    g.sit_at = sb->sit_blkaddr;
    g.nat_at = sb->nat_blkaddr;
    g.summaries_at = sb->ssa_blkaddr;
    g.main_at = sb->main_blkaddr;
    g.sit_segments = sb->segment_count_sit;
    g.nat_segments = sb->segment_count_nat;
    g.main_segments = sb->segment_count_main;
    g.checkpoint_payload = sb->cp_payload;
    g.root_inode = sb->root_ino;
    g.features = sb->feature;
    const std::uint64_t segment = g.segment_blocks;
    // The parts follow one upon the other, and each is as long as its table needs it.
    const bool fits = g.blocks > 0 && g.blocks < std::uint64_t{1} << 32 && sb->segment_count_ckpt == 2 &&
                      g.checkpoint_at + 2 * segment == g.sit_at && g.sit_at + g.sit_segments * segment == g.nat_at &&
                      g.nat_at + g.nat_segments * segment == g.summaries_at &&
                      g.summaries_at + sb->segment_count_ssa * segment == g.main_at && g.main_segments > 0 &&
                      g.main_at + g.main_blocks() <= g.blocks && g.sit_segments % 2 == 0 && g.nat_segments % 2 == 0 &&
                      g.sit_segments / 2 * segment * kSitEntriesPerBlock >= g.main_segments &&
                      sb->segment_count_ssa * segment >= g.main_segments && g.checkpoint_payload < segment;
    if (!fits) return std::nullopt;
    std::copy(std::begin(sb->uuid), std::end(sb->uuid), g.uuid.begin());
    const std::string label = utf16le_to_utf8(sb->volume_name);
    g.label = printable(label.substr(0, label.find('\0')));
    return g;
}

}  // namespace dredger::f2fs
