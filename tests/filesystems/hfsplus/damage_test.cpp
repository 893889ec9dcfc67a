// Thousands of damaged copies of real HFS Plus media: whatever stands there, a walk comes to an end.
#include <gtest/gtest.h>

#include "filesystems/hfsplus/hfsplus.h"
#include "support/walked.h"

namespace dredger {
namespace {

// Headers, the trees' first nodes, and every node of the catalog.
std::vector<std::uint64_t> tender_places(const std::vector<std::byte>& image) {
    const ByteView view(image);
    const auto geometry = hfsplus::parse_volume_header(view.slice(hfsplus::kHeaderAt, 512).value()).value();
    std::vector<std::uint64_t> places = {hfsplus::kHeaderAt, geometry.place_of(geometry.extents.first_block())};
    constexpr std::uint64_t kNode = 4096;
    const std::uint64_t catalog = geometry.place_of(geometry.catalog.first_block());
    for (std::uint64_t at = catalog; at < catalog + geometry.catalog.size; at += kNode)
        if (!view.slice(static_cast<std::size_t>(at), 64).value().is_uniform()) {
            places.push_back(at);
            places.push_back(at + kNode - 64);
        }
    return places;
}

class HfsPlusDamage : public testing::TestWithParam<test::Damage> {};

TEST_P(HfsPlusDamage, AThousandCopies) { test::scan_a_thousand(GetParam(), tender_places); }

INSTANTIATE_TEST_SUITE_P(Media, HfsPlusDamage,
                         testing::Values(test::Damage("hfsplus-station", 1U), test::Damage("hfsplus-station", 2U),
                                         test::Damage("hfsplus-station", 3U), test::Damage("hfsplus-worn", 1U),
                                         test::Damage("hfsplus-worn", 2U), test::Damage("hfsplus-worn", 3U),
                                         test::Damage("hfsplus-worn", 4U), test::Damage("hfsx-log", 1U),
                                         test::Damage("hfsx-log", 2U), test::Damage("hfsx-log", 3U)),
                         test::NameOfTest());

}  // namespace
}  // namespace dredger
