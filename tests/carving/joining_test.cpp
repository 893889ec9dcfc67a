// Where the rest of broken content lies: on formats whose bytes say exactly which splices are right.
#include "carving/joining.h"

#include <gmock/gmock.h>

#include "media/content.h"
#include "support/support.h"

namespace dredger {
namespace {

using test::MemoryMedium;

constexpr std::uint64_t kCluster = 512;

// A file of numbered clusters: "C" and its number throughout. It is whole with `clusters` of them in their order.
Measured measure_numbered(Reader& content, std::uint64_t clusters, Proof proof) {
    for (std::uint64_t n = 0; n < clusters; ++n) {
        const std::uint64_t at = n * kCluster;
        if (content.u8(at) != 'C' || content.u16le(at + 1) != n || content.u8(at + kCluster - 1) != 'c')
            return n == 0 ? nonsense()
                          : broken_between(at, std::min(at + 10, content.size()), "a number is missing",
                                           clusters * kCluster);
    }
    return whole(clusters * kCluster, proof);
}

Format numbered(std::uint64_t clusters, Proof proof = Proof::checksums) {
    Format format;
    format.name = "numbered";
    format.measure = [=](Reader& content) { return measure_numbered(content, clusters, proof); };
    return format;
}

class Ground {
  public:
    Ground& clusters(std::uint16_t from, std::uint16_t to) {
        for (std::uint16_t n = from; n < to; ++n) {
            std::vector<std::byte> one(kCluster, std::byte{'.'});
            one[0] = std::byte{'C'};
            one[1] = static_cast<std::byte>(n & 0xFFU);
            one[2] = static_cast<std::byte>(n >> 8);
            one[kCluster - 1] = std::byte{'c'};
            bytes_.insert(bytes_.end(), one.begin(), one.end());
        }
        return *this;
    }
    Ground& foreign(std::size_t count) {
        bytes_.insert(bytes_.end(), count * kCluster, std::byte{'x'});
        return *this;
    }
    MemoryMedium medium() const { return MemoryMedium(bytes_); }

  private:
    std::vector<std::byte> bytes_;
};

std::optional<Joined> joined(const MemoryMedium& medium, const Format& format, JoinLimits limits = {},
                             const std::vector<Extent>& held = {}) {
    Budget budget;
    Reader reader(medium, budget);
    Remains remains(medium.size(), kCluster);
    for (const Extent& part : held) remains.hold(part);
    remains.hold({0, kCluster});  // its beginning is its own
    remains.settle();
    TornFile file{.start = 0, .format = &format, .measured = measure(format, reader), .own = medium.size()};
    return join(medium, remains, file, limits);
}

// Clusters of the ground: the first, and how many.
using Clusters = std::pair<std::uint64_t, std::uint64_t>;

void expect_whole(const std::optional<Joined>& found, const std::vector<Clusters>& where) {
    ASSERT_TRUE(found);
    EXPECT_TRUE(found->is_whole);
    std::vector<Extent> pieces;
    for (const auto& [first, count] : where) pieces.push_back({first * kCluster, count * kCluster});
    EXPECT_EQ(found->pieces, pieces);
}

TEST(Join, LeavesOutAForeignStretch) {
    const auto medium = Ground().clusters(0, 5).foreign(3).clusters(5, 9).foreign(2).medium();
    expect_whole(joined(medium, numbered(9)), {{0, 5}, {8, 4}});
}

TEST(Join, GoesOnFromPieceToPiece) {
    const auto medium = Ground().clusters(0, 4).foreign(2).clusters(4, 8).foreign(5).clusters(8, 12).medium();
    expect_whole(joined(medium, numbered(12)), {{0, 4}, {6, 4}, {15, 4}});
}

TEST(Join, FindsPiecesThatLieInAnotherOrder) {
    const auto medium = Ground().clusters(0, 3).foreign(2).clusters(6, 9).foreign(1).clusters(3, 6).foreign(2).medium();
    expect_whole(joined(medium, numbered(9)), {{0, 3}, {9, 3}, {5, 3}});
}

TEST(Join, WhatOthersHoldIsLeftOutAtOnce) {
    const auto medium = Ground().clusters(0, 4).foreign(900).clusters(4, 8).foreign(700).clusters(8, 12).medium();
    const std::vector<Extent> held = {{4 * kCluster, 900 * kCluster}, {908 * kCluster, 700 * kCluster}};
    JoinLimits limits;
    limits.effort = Effort::once;
    EXPECT_FALSE(joined(medium, numbered(12), limits));
    expect_whole(joined(medium, numbered(12), limits, held), {{0, 4}, {904, 4}, {1608, 4}});
}

TEST(Join, WhatIsLostStaysLost) {
    const auto gone = Ground().clusters(0, 5).foreign(40).medium();
    EXPECT_FALSE(joined(gone, numbered(9)));
    // A few clusters that make sense may do so by chance; many are told of, and not called whole.
    EXPECT_FALSE(joined(Ground().clusters(0, 4).foreign(2).clusters(4, 8).foreign(20).medium(), numbered(60)));
    const auto partly = Ground().clusters(0, 4).foreign(2).clusters(4, 200).foreign(20).medium();
    const auto found = joined(partly, numbered(210));
    ASSERT_TRUE(found);
    EXPECT_FALSE(found->is_whole);
    EXPECT_EQ(found->measured.end, Measured::End::broken);
    EXPECT_EQ(found->measured.sure, 200 * kCluster);
}

TEST(Join, KeepsToItsLimits) {
    const auto medium = Ground().clusters(0, 5).foreign(30).clusters(5, 9).medium();
    EXPECT_TRUE(joined(medium, numbered(9)));
    JoinLimits limits;
    limits.most_read = 1000;
    limits.most_read_again = 0;
    EXPECT_FALSE(joined(medium, numbered(9), limits));
    limits = {};
    limits.stop = [] { return true; };
    EXPECT_FALSE(joined(medium, numbered(9), limits));
}

TEST(Join, AsksTheFormatHowMuchIsForeign) {
    const auto medium = Ground().clusters(0, 5).foreign(4000).clusters(5, 9).medium();
    Format format = numbered(9);
    EXPECT_FALSE(joined(medium, format));
    format.gaps = [](Reader&, const Measured&) { return std::vector<std::uint64_t>{77, 4000 * kCluster}; };
    expect_whole(joined(medium, format), {{0, 5}, {4005, 4}});
}

// Of these nothing is known but by what stands at the end: as the index of a film tells where its frames are.
TEST(Join, BeginsWithAPartThatIsKnownElsewhere) {
    const auto medium = Ground().clusters(0, 3).foreign(2).clusters(3, 7).foreign(1).clusters(7, 9).foreign(2).medium();
    Format format = numbered(9);
    const auto measure_it = format.measure;
    format.measure = [=](Reader& content) {
        if (content.size() < 9 * kCluster || content.u16le(8 * kCluster + 1) != 8)
            return broken_between(kCluster, 9 * kCluster, "its index is missing", 9 * kCluster);
        return measure_it(content);
    };
    EXPECT_FALSE(joined(medium, format));
    const std::string mark("C\x08\0", 3);
    format.landmark = [&](Reader&, const Measured& found) {
        return found.trouble == "its index is missing" ? std::optional(Landmark{8 * kCluster, 0, mark}) : std::nullopt;
    };
    expect_whole(joined(medium, format), {{0, 3}, {5, 4}, {10, 2}});
}

// Of these only the first cluster and the last one tell what they are.
TEST(Join, PiecesMeetWhereOthersEndAndBegin) {
    const auto medium = Ground().clusters(0, 4).foreign(3).clusters(4, 9).foreign(2).medium();
    Format format;
    format.name = "ends";
    format.measure = [](Reader& content) {
        const bool has_its_end = content.u8(8 * kCluster) == 'C' && content.u16le(8 * kCluster + 1) == 8;
        return has_its_end ? whole(9 * kCluster, Proof::chain) : broken(kCluster, "its end is missing", 9 * kCluster);
    };
    Budget budget;
    Reader reader(medium, budget);
    const TornFile file{.start = 0, .format = &format, .measured = measure(format, reader), .own = medium.size()};
    Remains remains(medium.size(), kCluster);
    remains.hold({4 * kCluster, 3 * kCluster});
    remains.settle();
    const std::vector<Extent> right = {{0, 4 * kCluster}, {7 * kCluster, 5 * kCluster}};
    // The first goes on into what others hold, or the second comes out of it.
    for (const std::uint64_t meet : {2U, 3U, 5U, 6U}) {
        Joined joined{whole(9 * kCluster, Proof::chain),
                      {{0, meet * kCluster}, {(meet + 3) * kCluster, (9 - meet) * kCluster}}};
        const auto aligned = align(medium, remains, file, joined, {});
        ASSERT_TRUE(aligned) << meet;
        EXPECT_EQ(aligned->pieces, right) << meet;
        EXPECT_TRUE(aligned->is_whole);
    }
    EXPECT_FALSE(align(medium, remains, file, {whole(9 * kCluster, Proof::chain), right}, {}));
}

}  // namespace
}  // namespace dredger
