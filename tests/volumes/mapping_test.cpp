#include "volumes/mapping.h"

#include <gmock/gmock.h>

namespace dredger {
namespace {

using testing::ElementsAre;
using testing::IsEmpty;

Volume in_pieces() {
    Volume volume;
    volume.offset = 9000;
    volume.length = 300;
    volume.pieces = {{9000, 100}, {1000, 200}};  // the second one lies before the first
    return volume;
}

TEST(Mapping, RunsOfAVolumeLieInItsPieces) {
    EXPECT_THAT(
        on_medium(in_pieces(), std::vector<Extent>{{50, 100}, Extent::zeros(7), {290, 20}}),
        ElementsAre(Extent{9050, 50}, Extent{1000, 50}, Extent::zeros(7), Extent{1190, 10}, Extent::unknown(10)));
}

TEST(Mapping, RunsOfTheMediumLeadBackToTheVolume) {
    EXPECT_THAT(on_volume(in_pieces(), {9050, 50}), ElementsAre(Extent{50, 50}));
    EXPECT_THAT(on_volume(in_pieces(), {1010, 5}), ElementsAre(Extent{110, 5}));
    EXPECT_THAT(on_volume(in_pieces(), {900, 20'000}), ElementsAre(Extent{0, 100}, Extent{100, 200}));
    EXPECT_THAT(on_volume(in_pieces(), {1200, 100}), IsEmpty());
    EXPECT_THAT(on_volume(in_pieces(), Extent::zeros(100)), IsEmpty());
    Volume whole;
    whole.offset = 4096;
    whole.length = 8192;
    EXPECT_THAT(on_volume(whole, {0, 5000}), ElementsAre(Extent{0, 904}));
}

TEST(Mapping, PackedExtentsAreNotCutInTwo) {
    VolumeLayout packed;
    packed.codec = Codec::each;
    packed.extents = {{Extent{10, 50}, {Pack::Method::zlib, 0, 400, 400}},
                      {Extent{80, 50}, {Pack::Method::zstd, 8, 900, 500}}};
    const MediumLayout there = on_medium(in_pieces(), std::move(packed));
    ASSERT_EQ(there.extents.size(), 2U);
    EXPECT_EQ(there.extents[0], LayoutExtent(Extent{9010, 50}, {Pack::Method::zlib, 0, 400, 400}));
    EXPECT_TRUE(there.extents[1].is_unknown());
    EXPECT_EQ(there.extents[1].content(), 500U) << "what it stands for is known all the same";

    VolumeLayout plain;
    plain.extents = {{80, 50}};
    EXPECT_EQ(on_medium(in_pieces(), std::move(plain)).extents.size(), 2U);
}

}  // namespace
}  // namespace dredger
