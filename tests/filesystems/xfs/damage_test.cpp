// Ten thousand damaged copies of real XFS media.
#include <gtest/gtest.h>

#include "base/bytes.h"
#include "filesystems/xfs/superblock.h"
#include "support/walked.h"

namespace dredger {
namespace {

// Headers of the groups, nodes of all trees, inodes, directory blocks, and the log's records with what they begin with.
std::vector<std::uint64_t> tender_places(const std::vector<std::byte>& image) {
    test::TenderPlaces places(image.size());
    const ByteView view(image);
    const auto g = xfs::parse_superblock(view);
    places.add(0, 260, 4);
    for (std::uint32_t group = 0; group < g->groups; ++group) places.add(g->offset_in(group, 0) + 512, 1024 + 64, 3);
    unsigned records = 0;
    for (std::size_t at = 0; at + 512 <= image.size(); at += 512) {
        for (const char* magic : {"IAB3", "AB3B", "BMA3", "XDB3", "XDD3"})
            if (view.has(at, magic)) places.add(at, 400);
        if (view.has(at, "IN")) places.add(at, 240);
        if (view.has(at, "\xFE\xED\xBA\xBE") && records++ < 200) places.add(at, 44), places.add(at + 512, 300);
    }
    return places.all();
}

class XfsDamage : public testing::TestWithParam<test::Damage> {};

TEST_P(XfsDamage, AThousandCopies) { test::scan_a_thousand(GetParam(), tender_places); }

INSTANTIATE_TEST_SUITE_P(Media, XfsDamage,
                         testing::Values(test::Damage("xfs-colony", 1U), test::Damage("xfs-colony", 2U),
                                         test::Damage("xfs-colony", 3U), test::Damage("xfs-colony", 4U),
                                         test::Damage("xfs-colony", 5U), test::Damage("xfs-worn", 1U),
                                         test::Damage("xfs-worn", 2U), test::Damage("xfs-worn", 3U),
                                         test::Damage("xfs-worn", 4U), test::Damage("xfs-worn", 5U),
                                         test::Damage("xfs-pieces", 1U)),
                         test::NameOfTest());

}  // namespace
}  // namespace dredger
