#include "ranking/content_evidence.h"

#include <gmock/gmock.h>

namespace dredger {
namespace {

using testing::Contains;
using testing::HasSubstr;

Prospect judged(Measured measured, std::size_t pieces = 1, bool padded = true) {
    return judge_content({measured, measured.length, pieces, padded, "jpeg"});
}

TEST(ContentEvidence, OnlyWhatIsProvenThroughoutIsSound) {
    EXPECT_EQ(judged(whole(9000, Proof::checksums)).band, Band::sound);
    EXPECT_EQ(judged(whole(9000, Proof::checksums)).check, Check::verified);
    EXPECT_EQ(judged(whole(9000, Proof::checksums), 3).band, Band::sound);
    EXPECT_EQ(judged(whole(9000, Proof::structure)).check, Check::plausible);
    EXPECT_EQ(judged(whole(9000, Proof::length)).band, Band::patchy);
    EXPECT_EQ(judged(whole(9000, Proof::structure)).band, Band::sound);
    EXPECT_EQ(judged(whole(9000, Proof::chain)).band, Band::patchy);
    EXPECT_EQ(judged(open_ended(9000, Proof::structure)).band, Band::patchy) << "zeros are no proof of an end";
    EXPECT_EQ(judged(open_ended(9000, Proof::structure), 1, false).band, Band::patchy);
}

TEST(ContentEvidence, PiecesThatNoChecksumProvesAreNeverSound) {
    const Prospect prospect = judged(whole(9000, Proof::structure), 2);
    EXPECT_EQ(prospect.band, Band::patchy);
    EXPECT_THAT(prospect.reasons, Contains(HasSubstr("2 pieces that fit")));
}

TEST(ContentEvidence, WhatGoesOnBehindItsEndIsNotSound) {
    const Measured measured = whole(9000, Proof::checksums);
    const Prospect prospect = judge_content({measured, 9000, 1, false, "jpeg", true});
    EXPECT_EQ(prospect.band, Band::patchy);
    EXPECT_EQ(prospect.check, Check::verified);
    EXPECT_THAT(prospect.reasons, Contains(HasSubstr("something follows it")));
}

TEST(ContentEvidence, ABrokenFileIsWorthWhatMakesSense) {
    const Prospect half = judged(broken(5000, "its end is missing", 10000));
    EXPECT_EQ(half.value, 50);
    EXPECT_EQ(half.check, Check::damaged);
    EXPECT_EQ(judged(broken(9999, "its end is missing", 10000)).band, Band::patchy);
    EXPECT_EQ(judged(broken(10, "its end is missing", 10000)).band, Band::faint);
}

TEST(ContentEvidence, AChecksumOutweighsWhatIsSaidAgainstARecord) {
    Prospect prospect;
    prospect.value = 12;
    prospect.band = Band::faint;
    add_content(prospect, {whole(9000, Proof::checksums), 9000, 1, true, "png"}, 9000);
    EXPECT_EQ(prospect.band, Band::sound);
    EXPECT_EQ(prospect.check, Check::verified);
}

TEST(ContentEvidence, BrokenContentTakesARecordsSoundness) {
    Prospect prospect;
    prospect.value = 99;
    prospect.band = Band::sound;
    add_content(prospect, {broken(3000, "the checksum of a chunk is off"), 3000, 1, true, "png"}, 9000);
    EXPECT_EQ(prospect.value, 33);
    EXPECT_EQ(prospect.check, Check::damaged);
    EXPECT_THAT(prospect.reasons, Contains(HasSubstr("up to byte 3000 only")));
}

TEST(ContentEvidence, ForeignContentLeavesWhatLiesBeforeIt) {
    Prospect prospect;
    prospect.value = 95;
    prospect.band = Band::sound;
    add_foreign_content(prospect, "mp4", 4096, 8192);
    EXPECT_EQ(prospect.value, 50);
    EXPECT_EQ(prospect.band, Band::patchy);
    add_foreign_content(prospect, "jpeg", 0, 8192);
    EXPECT_EQ(prospect.band, Band::gone);
}

}  // namespace
}  // namespace dredger
