#include "ranking/prospect.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "base/crc32c.h"
#include "support/support.h"

namespace dredger {
namespace {

using testing::Contains;
using testing::HasSubstr;

Evidence intact() {
    Evidence e;
    e.size = e.laid = 10'000;
    e.fragments = 1;
    e.trust = LayoutTrust::assumed;
    e.head = Agreement::agrees;
    return e;
}

Prospect judged(const Evidence& e) {
    return judge(e, [](std::int64_t id) { return id == 7 ? std::string("NEST0101.JPG") : std::string(); });
}

TEST(Prospect, WhatAgreesInOnePieceIsSound) {
    const Prospect p = judged(intact());
    EXPECT_EQ(p.band, Band::sound);
    EXPECT_GE(p.value, 95);
    EXPECT_EQ(p.check, Check::plausible);
}

TEST(Prospect, AnOverwrittenPartIsNeverSoundAndIsNamed) {
    Evidence e = intact();
    e.held_by_live = 10;
    e.live_holders = {{7, 10}};
    const Prospect p = judged(e);
    EXPECT_EQ(p.band, Band::patchy);
    EXPECT_THAT(p.reasons, Contains(HasSubstr("overwritten by NEST0101.JPG")));
    e.held_by_live = 10'000;
    EXPECT_EQ(judged(e).band, Band::gone);
    EXPECT_EQ(judged(e).value, 0);
}

TEST(Prospect, ANewerDeletedFileOnItsPlaceIsNearlyAsBad) {
    Evidence e = intact();
    e.claimed_by_newer = 5'000;
    e.newer_claimants = {{7, 4'000}, {0, 1'000}};
    const Prospect p = judged(e);
    EXPECT_EQ(p.band, Band::patchy);
    EXPECT_LT(p.value, 60);
    EXPECT_THAT(p.reasons, Contains(HasSubstr("NEST0101.JPG and 1 more, deleted since")));
}

TEST(Prospect, ContentThatIsSomethingElseIsNotHopedFor) {
    Evidence e = intact();
    e.head = Agreement::disagrees;
    EXPECT_EQ(judged(e).band, Band::faint);
    EXPECT_EQ(judged(e).check, Check::damaged);
    e.head = Agreement::blank;
    EXPECT_EQ(judged(e).band, Band::gone);
}

TEST(Prospect, PiecesAroundOthersNeedAnEndThatFits) {
    Evidence e = intact();
    e.fragments = 3;
    EXPECT_EQ(judged(e).band, Band::patchy);
    e.tail = Tail::padded;
    EXPECT_EQ(judged(e).band, Band::sound);
    e.tail = Tail::foreign;
    EXPECT_NE(judged(e).band, Band::sound);
}

// Nothing says that its bytes are gone.
TEST(Prospect, WhatHasNoPlaceIsFaint) {
    Evidence e = intact();
    e.laid = 0;
    e.trust = LayoutTrust::none;
    EXPECT_EQ(judged(e).value, 3);
    EXPECT_EQ(judged(e).band, Band::faint);
    EXPECT_THAT(judged(e).reasons, Contains(HasSubstr("nothing tells")));
}

TEST(Prospect, ContentWithinAWholeRecordIsSoundWhateverItBeginsWith) {
    Evidence e = intact();
    e.trust = LayoutTrust::exact;
    e.within_records = true;
    e.head = Agreement::disagrees;
    EXPECT_EQ(judged(e).value, 100);
    EXPECT_EQ(judged(e).band, Band::sound);
    e.trust = LayoutTrust::damaged;
    EXPECT_EQ(judged(e).band, Band::patchy);
    EXPECT_THAT(judged(e).reasons, Contains(HasSubstr("record that tells where it lies is damaged")));
}

TEST(Prospect, WhatIsEncryptedIsOfLittleUse) {
    Evidence e = intact();
    e.encrypted = true;
    EXPECT_EQ(judged(e).band, Band::faint);
    EXPECT_THAT(judged(e).reasons, Contains(HasSubstr("only the key of the owner's account")));
    e.is_live = e.is_trashed = true;
    EXPECT_EQ(judged(e).band, Band::faint) << "in the bin as well";
}

TEST(Prospect, WhatLiesInTheBinIsWhole) {
    Evidence e = intact();
    e.is_live = e.is_trashed = true;
    EXPECT_EQ(judged(e).value, 100);
    EXPECT_THAT(judged(e).reasons, Contains(HasSubstr("still lies in the bin")));
}

TEST(Prospect, AFileOfWhichOnlyTheNameIsLeftIsFaint) {
    Evidence e;
    e.trust = LayoutTrust::none;
    EXPECT_EQ(judged(e).band, Band::faint) << "though its size is not known";
}

TEST(Prospect, AMissingEndIsCountedOut) {
    Evidence e = intact();
    e.laid = 5'000;
    EXPECT_EQ(judged(e).band, Band::patchy);
    EXPECT_LE(judged(e).value, 50);
}

TEST(Prospect, EmptyFilesFoldersAndLiveOnesAreSound) {
    Evidence e;
    e.trust = LayoutTrust::exact;
    EXPECT_EQ(judged(e).band, Band::sound);
    e.is_folder = true;
    EXPECT_EQ(judged(e).value, 100);
    e = intact();
    e.is_live = true;
    EXPECT_EQ(judged(e).value, 100);
    e.laid = 4'000;
    EXPECT_EQ(judged(e).band, Band::patchy);
}

TEST(Claims, FindEveryOverlap) {
    Claims claims;
    claims.add({{0, 1000}, 1, 1, false, {}});
    claims.add({{100, 50}, 2, 2, false, {}});
    claims.add({{900, 200}, 3, 3, false, {}});
    claims.add({Extent::unknown(5000), 4, 4, false, {}});
    claims.add({{100, 10}, 5, 5, true, {}});
    claims.seal();
    std::map<std::int64_t, std::uint64_t> shared;
    claims.others_in({120, 800}, [&](const Claim& c, const Extent& s) { shared[c.candidate] = s.length; });
    EXPECT_EQ(shared, (std::map<std::int64_t, std::uint64_t>{{1, 800}, {2, 30}, {3, 20}}));
    shared.clear();
    claims.live_in({0, 105}, [&](const Claim& c, const Extent& s) { shared[c.candidate] = s.length; });
    EXPECT_EQ(shared, (std::map<std::int64_t, std::uint64_t>{{5, 5}}));
    claims.live_in({110, 1000}, [&](const Claim&, const Extent&) { ADD_FAILURE(); });
}

// A medium of four sectors: a JPEG of 700 bytes that is padded, then other things.
struct Sectors {
    std::vector<std::byte> bytes = std::vector<std::byte>(2048, std::byte{0});
    Record record;

    Sectors() {
        for (std::size_t i = 0; i < 700; ++i) bytes[i] = static_cast<std::byte>(i % 250 + 1);
        for (const auto& [at, value] : {std::pair{0, 0xFF}, std::pair{1, 0xD8}, std::pair{2, 0xFF}})
            bytes[static_cast<std::size_t>(at)] = static_cast<std::byte>(value);
        record.name = "NEST0001.JPG";
        record.state = State::deleted;
        record.size = 700;
        record.layout.extents = {{0, 700}};
        record.trust = LayoutTrust::assumed;
        record.modified = FileTime{1000, 0, {}};
    }
    PaddingHabit habit() const {
        PaddingHabit learnt;
        Record live = record;
        live.state = State::live;
        const test::MemoryMedium medium(bytes);
        for (int i = 0; i < 8; ++i) learnt.learn(medium, live);
        return learnt;
    }
    Evidence gathered(const Claims& claims, const PaddingHabit& habit) const {
        return gather(record, 1, claims, SpaceMap(0, 512, 4), test::MemoryMedium(bytes), habit);
    }
};

TEST(Evidence, LooksAtTheFirstAndTheLastSector) {
    Sectors s;
    Claims none;
    none.seal();
    EXPECT_EQ(s.gathered(none, {}).head, Agreement::agrees);
    EXPECT_EQ(s.gathered(none, {}).tail, Tail::unknown) << "nothing was learnt of this volume";
    const PaddingHabit habit = s.habit();
    EXPECT_TRUE(habit.is_known());
    EXPECT_EQ(s.gathered(none, habit).tail, Tail::padded);
    s.bytes[800] = std::byte{'x'};
    EXPECT_EQ(s.gathered(none, habit).tail, Tail::foreign);
}

TEST(Evidence, AnUnknownFormatMayBeginWithZeros) {
    Sectors s;
    Claims none;
    none.seal();
    s.record.size = 2048;
    s.record.layout.extents = {{0, 2048}};
    std::fill_n(s.bytes.begin(), 2048, std::byte{0});
    for (const char* name : {"nest camera.state", "NEST0001.JPG"}) {
        s.record.name = name;
        s.bytes[1500] = std::byte{0};
        EXPECT_EQ(s.gathered(none, {}).head, Agreement::blank) << name;
        s.bytes[1500] = std::byte{'x'};
        const bool is_known = s.record.name.ends_with("JPG");
        EXPECT_EQ(s.gathered(none, {}).head, is_known ? Agreement::blank : Agreement::unknown) << name;
    }
}

TEST(Evidence, ZerosThatAChecksumConfirmsAreTheFilesOwn) {
    Sectors s;
    Claims none;
    none.seal();
    s.record.name = "nest camera.state";
    std::fill_n(s.bytes.begin(), 2048, std::byte{0});
    EXPECT_EQ(s.gathered(none, {}).head, Agreement::blank);
    s.record.layout.sum_unit = 512;
    s.record.layout.sums = {1, 2};
    EXPECT_EQ(s.gathered(none, {}).head, Agreement::blank) << "something else stood there";
    s.record.layout.sums[0] = crc32c(std::span(s.bytes).first(512));
    EXPECT_EQ(s.gathered(none, {}).head, Agreement::unknown);
}

TEST(Evidence, CountsLiveHoldersAndOnlyNewerClaims) {
    Sectors s;
    Claims claims;
    claims.add({{0, 100}, 2, 2, true, FileTime{2000, 0, {}}});
    claims.add({{200, 100}, 3, 3, false, FileTime{2000, 0, {}}});
    claims.add({{300, 100}, 4, 4, false, FileTime{500, 0, {}}});
    claims.add({{0, 700}, 1, 1, false, FileTime{1000, 0, {}}});
    claims.seal();
    const Evidence e = s.gathered(claims, {});
    EXPECT_EQ(e.held_by_live, 100U);
    EXPECT_EQ(e.claimed_by_newer, 100U);
    ASSERT_EQ(e.newer_claimants.size(), 1U);
    EXPECT_EQ(e.newer_claimants[0].candidate, 3);
}

TEST(Evidence, NamesOfTheSameFileDoNotCompete) {
    Sectors s;
    s.record.identity.number = 50;
    Claims claims;
    claims.add({{0, 700}, 2, 50, true, FileTime{2000, 0, {}}});
    claims.add({{0, 700}, 3, 50, false, FileTime{3000, 0, {}}});
    claims.seal();
    const Evidence e = s.gathered(claims, {});
    EXPECT_EQ(e.held_by_live, 0U);
    EXPECT_EQ(e.claimed_by_newer, 0U);
    SpaceMap taken(0, 512, 4);
    taken.take(0);
    taken.take(1);
    EXPECT_EQ(gather(s.record, 1, claims, taken, test::MemoryMedium(s.bytes), {}).taken_by_unknown, 0U);
}

TEST(Evidence, TheLastSignOfLifeDecidesWhoCameLater) {
    Sectors s;
    s.record.identity.number = 50;
    s.record.created = FileTime{500, 0, {}};
    s.record.changed = FileTime{4000, 0, {}};
    Claims claims;
    claims.add({{0, 100}, 2, 51, false, FileTime{3000, 0, {}}});
    claims.add({{200, 100}, 3, 52, false, FileTime{5000, 0, {}}});
    claims.seal();
    const Evidence e = s.gathered(claims, {});
    ASSERT_EQ(e.newer_claimants.size(), 1U) << "the first was gone before this one was changed last";
    EXPECT_EQ(e.newer_claimants[0].candidate, 3);
}

TEST(Evidence, BehindTheEndOfAnotherFileBytesMayStillStand) {
    Sectors s;
    s.record.identity.number = 50;
    s.record.size = 4096;
    s.record.layout.extents = {{0, 4096}};
    Claims claims;
    // A file of some 500 bytes in a cluster of 2 KiB.
    claims.add({{0, 2048}, 2, 51, true, FileTime{5000, 0, {}}, 2048 - 512});
    claims.seal();
    const Evidence e = s.gathered(claims, {});
    EXPECT_EQ(e.held_by_live, 512U);
    EXPECT_EQ(e.behind_ends, 2048U - 512);
    const Prospect prospect = judge(e, [](std::int64_t) { return std::string("Terns.csv"); });
    EXPECT_LT(prospect.band, Band::gone);
    EXPECT_GT(prospect.band, Band::sound);
}

TEST(Evidence, PackedBytesCountForWhatTheyStandFor) {
    Sectors s;
    s.record.identity.number = 50;
    s.record.size = 8192;
    s.record.layout.extents = {{0, 1024}, Extent::zeros(7168)};
    s.record.layout.codec = Codec::lznt1;
    s.record.layout.unit = 8192;
    Claims claims;
    claims.add({{0, 512}, 2, 51, true, FileTime{5000, 0, {}}});
    claims.seal();
    const Evidence e = s.gathered(claims, {});
    EXPECT_EQ(e.held_by_live, 4096U);
    EXPECT_EQ(e.laid, 8192U);
    EXPECT_EQ(e.unreadable, 512U) << "it can't be unpacked";
}

TEST(Evidence, ContentWithinRecordsIsNotAskedOfTheSpaceMap) {
    Sectors s;
    s.record.layout.within_records = true;
    SpaceMap taken(0, 512, 4);
    taken.take(0);
    Claims none;
    none.seal();
    EXPECT_EQ(gather(s.record, 1, none, taken, test::MemoryMedium(s.bytes), {}).taken_by_unknown, 0U);
}

TEST(Evidence, WhatLiesBehindTheEndIsNotLaidThoughItIsInTheBin) {
    Sectors s;
    s.record.state = State::trashed;
    s.record.layout.extents = {{1948, 700}};
    Claims none;
    none.seal();
    const Evidence e = s.gathered(none, {});
    EXPECT_EQ(e.laid, 100U);
    EXPECT_NE(judge(e, {}).band, Band::sound);
}

TEST(Evidence, AHoleIsNotLaid) {
    Sectors s;
    s.record.layout.extents = {{0, 300}, Extent::unknown(100), Extent::zeros(300)};
    Claims none;
    none.seal();
    EXPECT_EQ(s.gathered(none, {}).laid, 600U);
}

TEST(Evidence, ClustersInUseThatNobodyOwnsCount) {
    const Sectors s;
    Claims none;
    none.seal();
    SpaceMap space(0, 512, 4);
    space.take(1);
    const Evidence e = gather(s.record, 1, none, space, test::MemoryMedium(s.bytes), {});
    EXPECT_EQ(e.taken_by_unknown, 188U);
}

TEST(Evidence, UnreadableStartsAreNoted) {
    const Sectors s;
    Claims none;
    none.seal();
    test::MemoryMedium medium(s.bytes);
    medium.make_unreadable({0, 512});
    const Evidence e = gather(s.record, 1, none, SpaceMap(0, 512, 4), medium, {});
    EXPECT_EQ(e.unreadable, 512U);
    EXPECT_EQ(e.head, Agreement::unknown);
}

}  // namespace
}  // namespace dredger
