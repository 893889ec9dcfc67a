// Damaged copies of real F2FS media.
#include <gtest/gtest.h>

#include "base/bytes.h"
#include "filesystems/f2fs/node.h"
#include "support/walked.h"

namespace dredger {
namespace {

// Superblocks, checkpoints with their journals, the tables' first blocks, heads and footers of nodes.
std::vector<std::uint64_t> tender_places(const std::vector<std::byte>& image) {
    test::TenderPlaces places(image.size());
    constexpr std::uint64_t kBlock = f2fs::kBlock;
    const auto g = f2fs::parse_superblock(ByteView(std::span(image).subspan(f2fs::kSuperBlockAt)));
    places.add(f2fs::kSuperBlockAt, 124, 4);
    for (const std::uint64_t pack : {0U, g->segment_blocks}) {
        places.add((g->checkpoint_at + pack) * kBlock, 256, 3);
        for (std::uint64_t block = 1; block < 9; ++block) places.add((g->checkpoint_at + pack + block) * kBlock, 600);
    }
    places.add(g->nat_at * kBlock, 2048);
    places.add(g->sit_at * kBlock, 1024);
    for (std::uint64_t at = g->main_at * kBlock; at + kBlock <= image.size(); at += kBlock) {
        const auto block = std::span(image).subspan(at, kBlock);
        if (!f2fs::parse_node_head(ByteView(block), *g)) continue;
        places.add(at, 420);
        places.add(at + f2fs::kNodeIdsAt, kBlock - f2fs::kNodeIdsAt, 2);
    }
    return places.all();
}

class F2fsDamage : public testing::TestWithParam<test::Damage> {};

// Fewer than of other file systems: each copy of these small volumes is read whole.
TEST_P(F2fsDamage, HundredsOfCopies) {
    const auto& [fixture, seed] = GetParam();
    test::scan_damaged_copies(fixture, test::affordable(300), tender_places(test::unpacked(fixture)), seed);
}

INSTANTIATE_TEST_SUITE_P(Media, F2fsDamage,
                         testing::Values(test::Damage("f2fs-station", 1U), test::Damage("f2fs-worn", 1U)),
                         test::NameOfTest());

}  // namespace
}  // namespace dredger
