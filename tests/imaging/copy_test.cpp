#include "imaging/copy.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <random>
#include <sys/stat.h>

#include "base/file_lock.h"
#include "media/opened.h"
#include "media/sparing.h"
#include "support/failing.h"
#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::FailingMedium;
using test::Listener;
using test::TempFolder;
using testing::ElementsAre;
using testing::HasSubstr;

constexpr std::uint64_t kSector = FailingMedium::kSector;

std::vector<std::byte> noise(std::size_t size) {
    std::minstd_rand chance(3);
    std::vector<std::byte> bytes(size);
    for (std::byte& b : bytes) b = static_cast<std::byte>(chance() >> 8);
    return bytes;
}

class CopyTest : public testing::Test {
  protected:
    std::shared_ptr<FailingMedium> failing(std::size_t size) { return std::make_shared<FailingMedium>(noise(size)); }
    CopyRequest request_for(const MediumPtr& medium) {
        CopyRequest request;
        request.medium = medium;
        request.file = file();
        request.piece = 64 << 10;
        return request;
    }
    fs::path file() const { return folder_ / "copy.img"; }
    AreaMap map() const { return AreaMap::read(AreaMap::beside(file())).value(); }
    // Every good sector is in the copy, byte for byte; bad ones are zeros and known as bad.
    void expect_all_good_sectors(const FailingMedium& medium) {
        const std::string copy = test::read_text(file());
        ASSERT_EQ(copy.size(), medium.size());
        const auto bad = map().areas_that_are(Asked::Outcome::refused);
        std::uint64_t bad_bytes = 0;
        for (const Extent& area : bad) bad_bytes += area.length;
        std::uint64_t expected = 0;
        for (std::uint64_t s = 0; s * kSector < copy.size(); ++s) {
            const std::size_t length = std::min<std::size_t>(kSector, copy.size() - s * kSector);
            const auto here = std::as_bytes(std::span(copy)).subspan(s * kSector, length);
            if (medium.is_bad(s)) {
                expected += length;
                EXPECT_EQ(std::count(here.begin(), here.end(), std::byte{0}), static_cast<std::ptrdiff_t>(length));
            } else {
                EXPECT_TRUE(std::equal(here.begin(), here.end(),
                                       medium.bytes().begin() + static_cast<std::ptrdiff_t>(s * kSector)))
                    << "sector " << s;
            }
        }
        EXPECT_EQ(bad_bytes, expected);
    }

    TempFolder folder_;
    Listener listener_;
};

TEST_F(CopyTest, AGoodMediumIsReadOnceAndHashed) {
    const auto medium = failing((1 << 20) + 3 * 512 + 100);
    const auto done = copy_medium(request_for(medium), listener_);
    ASSERT_TRUE(done) << done.error().line();
    expect_all_good_sectors(*medium);
    EXPECT_EQ(done->sha256, test::sha256_of(file()));
    EXPECT_EQ(done->totals.not_held(), 0U);
    for (std::uint64_t s = 0; s < 2048; ++s) EXPECT_EQ(medium->asked(s), 1U);
}

TEST_F(CopyTest, EveryGoodSectorComesAndBadOnesAreAskedForAFewTimesOnly) {
    for (const bool backwards : {false, true}) {
        const auto medium = failing(8 << 20);
        std::minstd_rand chance(11);
        // About one in a hundred, in areas of one to thirty sectors.
        for (int n = 0; n < 11; ++n)
            medium->break_area({chance() % ((8 << 20) / kSector) * kSector, (1 + chance() % 30) * kSector});
        medium->break_sector(0);
        medium->break_sector((8 << 20) / kSector - 1);
        CopyRequest request = request_for(medium);
        request.asks = 6;
        request.backwards = backwards;
        const auto done = copy_medium(request, listener_);
        ASSERT_TRUE(done) << done.error().line();
        expect_all_good_sectors(*medium);
        EXPECT_EQ(done->sha256, test::sha256_of(file()));
        for (std::uint64_t s = 0; s * kSector < medium->size(); ++s) {
            // Good ones at most in a piece of each size, and now and then when it is asked whether the medium answers
            // at all.
            EXPECT_LE(medium->asked(s), medium->is_bad(s) ? 6U : 4U + 6U) << s;
            EXPECT_GE(medium->asked(s), 1U);
        }
        fs::remove(file());
        fs::remove(AreaMap::beside(file()));
    }
}

TEST_F(CopyTest, WhatFailsNowAndThenComesWhenItIsAskedForMoreOften) {
    const auto medium = failing(1 << 20);
    for (const std::uint64_t s : {100U, 101U, 777U}) medium->break_at_first(s, 3);
    CopyRequest request = request_for(medium);
    auto done = copy_medium(request, listener_);
    ASSERT_TRUE(done);
    EXPECT_EQ(done->totals.refused(), 3 * kSector);
    request.asks = 8;
    done = copy_medium(request, listener_);
    ASSERT_TRUE(done) << done.error().line();
    EXPECT_TRUE(done->was_resumed);
    EXPECT_EQ(done->totals.not_held(), 0U);
    EXPECT_EQ(done->copied, 3 * kSector);
    expect_all_good_sectors(*medium);
}

TEST_F(CopyTest, InterruptedAnywhereItGoesOnToTheSameBytes) {
    const auto medium = failing(2 << 20);
    for (int n = 0; n < 6; ++n)
        medium->break_area({static_cast<std::uint64_t>(n) * 300'000 / kSector * kSector, 5 * kSector});
    int runs = 0;
    for (int stop_after = 1;; stop_after += 7) {
        listener_.stop = false;
        listener_.stop_after_questions = stop_after;
        const auto done = copy_medium(request_for(medium), listener_);
        ASSERT_TRUE(done) << done.error().line();
        ++runs;
        if (!done->interrupted) break;
    }
    EXPECT_GT(runs, 5);
    expect_all_good_sectors(*medium);
    for (std::uint64_t s = 0; s * kSector < medium->size(); ++s)
        EXPECT_LE(medium->asked(s), medium->is_bad(s) ? 5U : 4U + 3U);
}

TEST_F(CopyTest, AReadThatHangsIsGivenUp) {
    const auto medium = failing(1 << 20);
    medium->hang_at(900);
    CopyRequest request = request_for(medium);
    request.patience = std::chrono::milliseconds(60);
    const auto done = copy_medium(request, listener_);
    // The block, its first half and the sector itself hang: the medium is asked no more.
    ASSERT_FALSE(done.has_value() && done->totals.not_held() == 0);
    medium->release();
    const auto rest = copy_medium(request, listener_);
    ASSERT_TRUE(rest) << rest.error().line();
    request.asks = 7;
    ASSERT_TRUE(copy_medium(request, listener_));
    expect_all_good_sectors(*medium);
}

TEST_F(CopyTest, AMediumThatVanishesIsNotTakenForBad) {
    const auto medium = failing(8 << 20);
    medium->vanish_after(40);
    const auto done = copy_medium(request_for(medium), listener_);
    ASSERT_TRUE(done);
    ASSERT_TRUE(done->stopped);
    EXPECT_EQ(done->stopped->kind, ErrorKind::unreadable);
    EXPECT_THAT(done->stopped->line(), HasSubstr("run the same command"));
    EXPECT_TRUE(done->sha256.empty());
    EXPECT_EQ(map().totals().refused(), 0U);
    EXPECT_EQ(map().totals().held(), 39U * (64 << 10));
}

TEST_F(CopyTest, PartsAndRangesAndHoles) {
    std::vector<std::byte> bytes(4 << 20);
    for (std::size_t i = 0; i < 4096; ++i) bytes[(3 << 20) + i] = std::byte{'p'};
    const auto medium = std::make_shared<FailingMedium>(bytes);
    CopyRequest request = request_for(medium);
    request.within = {2 << 20, 1 << 20};
    auto done = copy_medium(request, listener_);
    ASSERT_TRUE(done);
    EXPECT_EQ(done->totals.unasked(), 3U << 20);
    EXPECT_TRUE(done->sha256.empty());
    request.within = {0, ~std::uint64_t{0}};
    done = copy_medium(request, listener_);
    ASSERT_TRUE(done);
    expect_all_good_sectors(*medium);
    struct stat facts {};
    ASSERT_EQ(::stat(file().c_str(), &facts), 0);
    EXPECT_LT(facts.st_blocks * 512, 3 << 20);

    request.file = folder_ / "parts.img";
    request.split = 1536 << 10;
    done = copy_medium(request, listener_);
    ASSERT_TRUE(done) << done.error().line();
    const auto opened = open_medium(folder_ / "parts.img.001");
    ASSERT_TRUE(opened);
    EXPECT_EQ(opened->form, "split image in 3 parts");
    EXPECT_EQ(opened->medium->bytes(0, bytes.size()).value(), bytes);
    EXPECT_EQ(done->map, folder_ / "parts.img.001.areas.json");
}

TEST_F(CopyTest, AnImageBelongsToOneCopyAtATime) {
    const auto medium = failing(1 << 20);
    listener_.stop_after_questions = 3;
    ASSERT_TRUE(copy_medium(request_for(medium), listener_)->interrupted);
    listener_.stop = false;
    {
        const FileLock other(file());
        EXPECT_THAT(copy_medium(request_for(medium), listener_).error().line(), HasSubstr("another copy"));
    }
    ASSERT_TRUE(copy_medium(request_for(medium), listener_));
    expect_all_good_sectors(*medium);
}

TEST_F(CopyTest, NothingIsOverwritten) {
    const auto medium = failing(1 << 20);
    test::write_text(file(), "somebody's own");
    EXPECT_THAT(copy_medium(request_for(medium), listener_).error().line(), HasSubstr("already"));
    EXPECT_EQ(test::read_text(file()), "somebody's own");
    fs::remove(file());
    ASSERT_TRUE(copy_medium(request_for(medium), listener_));
    EXPECT_EQ(copy_medium(request_for(failing(2 << 20)), listener_).error().kind, ErrorKind::unsafe);
    fs::remove(file());
    EXPECT_THAT(copy_medium(request_for(medium), listener_).error().line(), HasSubstr("not the image"));
}

TEST_F(CopyTest, NothingIsMadeForARangeBehindTheEnd) {
    CopyRequest request = request_for(failing(1 << 20));
    request.within = {1 << 20, 512};
    EXPECT_THAT(copy_medium(request, listener_).error().line(), HasSubstr("behind the end"));
    EXPECT_TRUE(fs::is_empty(folder_.path()));
}

TEST_F(CopyTest, TheSourceIsNeverTheCopy) {
    const std::string content = "what is to be copied" + std::string(492, ' ');
    test::write_text(file(), content);
    ASSERT_TRUE(AreaMap(512).write(AreaMap::beside(file())));
    fs::create_symlink(file(), folder_ / "other.img");
    fs::rename(AreaMap::beside(file()), folder_ / "kept");
    for (const fs::path& written : {file(), folder_ / "other.img"}) {
        fs::copy_file(folder_ / "kept", AreaMap::beside(written));
        CopyRequest request;
        request.source = file();
        request.file = written;
        request.onto_same_drive = true;
        EXPECT_EQ(copy_medium(request, listener_).error().kind, ErrorKind::unsafe) << written;
        EXPECT_EQ(test::read_text(file()), content);
    }
}

TEST_F(CopyTest, TheImageIsReadTogetherWithItsMap) {
    const auto medium = failing(1 << 20);
    medium->break_area({300 * kSector, 4 * kSector});
    ASSERT_TRUE(copy_medium(request_for(medium), listener_));
    const auto opened = open_medium(file());
    ASSERT_TRUE(opened);
    EXPECT_THAT(opened->remarks, ElementsAre(HasSubstr("2.0 KiB of the medium are not in this copy")));
    std::vector<std::byte> bytes(10 * kSector);
    std::vector<Extent> bad, known;
    ASSERT_TRUE(opened->medium->read(296 * kSector, bytes, &bad));
    EXPECT_THAT(bad, ElementsAre(Extent{300 * kSector, 4 * kSector}));
    opened->medium->add_known_bad(0, opened->medium->size(), known);
    EXPECT_EQ(known, bad);
    test::write_text(AreaMap::beside(file()), "{}");
    EXPECT_THAT(open_medium(file()).error().line(), HasSubstr("no map"));
}

// A boot sector, a table, a folder: what a walk needs is safe first, wherever it lies.
TEST_F(CopyTest, WhatFileSystemsKeepComesFirstThenTheChosenFiles) {
    const std::string card = test::read_text(test::unpack_to("fat16-card", folder_.path()));
    const auto bytes = std::as_bytes(std::span(card));
    const auto medium = std::make_shared<FailingMedium>(std::vector(bytes.begin(), bytes.end()));
    CopyRequest request = request_for(medium);
    const std::uint64_t chosen = medium->size() / 2 / kSector * kSector;
    request.chosen = {{chosen, 3 * kSector}, {chosen + 100 * kSector, kSector}};
    listener_.stop_after_questions = 40;
    auto done = copy_medium(request, listener_);
    ASSERT_TRUE(done) << done.error().line();
    ASSERT_TRUE(done->interrupted);
    ASSERT_TRUE(done->structures);
    EXPECT_EQ(done->structures->not_held(), 0U);
    EXPECT_GT(done->structures->held(), 512U);
    ASSERT_TRUE(done->chosen);
    EXPECT_EQ(done->chosen->held(), 4 * kSector);
    EXPECT_LT(done->totals.held(), medium->size() / 2);
    listener_.stop = false;
    listener_.stop_after_questions = 0;
    done = copy_medium(request, listener_);
    ASSERT_TRUE(done) << done.error().line();
    expect_all_good_sectors(*medium);
    EXPECT_EQ(done->sha256, test::sha256_of(file()));
    for (std::uint64_t s = 0; s * kSector < medium->size(); ++s) ASSERT_EQ(medium->asked(s), 1U) << s;
}

TEST_F(CopyTest, TheTimeThatIsGivenEndsIt) {
    const auto medium = failing(8 << 20);
    medium->answer_after(std::chrono::milliseconds(5));
    CopyRequest request = request_for(medium);
    request.at_most = std::chrono::milliseconds(60);
    const auto done = copy_medium(request, listener_);
    ASSERT_TRUE(done);
    EXPECT_TRUE(done->out_of_time);
    EXPECT_FALSE(done->interrupted);
    EXPECT_TRUE(done->sha256.empty());
    EXPECT_GT(done->totals.held(), 0U);
    EXPECT_LT(done->totals.held(), medium->size());
    ASSERT_EQ(map().runs.size(), 1U);
    EXPECT_EQ(map().runs[0].held, done->totals.held());
}

// What was never asked for stays apart from what was refused, however often the copy is copied; and it comes once it
// can be had.
TEST_F(CopyTest, ACopyOfACopyKeepsApartWhatWasNeverAskedFor) {
    const auto medium = failing(1 << 20);
    medium->break_sector(9);
    CopyRequest request = request_for(medium);
    request.within = {0, 512 << 10};
    ASSERT_TRUE(copy_medium(request, listener_));
    CopyRequest second;
    second.source = file();
    second.file = folder_ / "second.img";
    auto done = copy_medium(second, listener_);
    ASSERT_TRUE(done) << done.error().line();
    EXPECT_EQ(done->totals.refused(), kSector);
    EXPECT_EQ(done->totals.absent(), 512U << 10);
    EXPECT_EQ(done->totals.unasked(), 0U);
    second.medium = medium;
    done = copy_medium(second, listener_);
    ASSERT_TRUE(done) << done.error().line();
    EXPECT_EQ(done->totals.absent(), 0U);
    EXPECT_EQ(done->totals.held(), medium->size() - kSector);
    EXPECT_EQ(done->copied, 512U << 10);
}

TEST(AreaMapTest, KeepsAreasApartAndTogether) {
    constexpr Asked held{Asked::Outcome::held, 1}, refused{Asked::Outcome::refused, 1};
    AreaMap map(1000);
    map.answer({100, 50}, true);
    map.answer({150, 50}, true);
    map.answer({900, 500}, false);
    map.answer({950, 50}, false, std::chrono::milliseconds(3000));
    map.set(120, 10, refused);
    const Asked slowly{Asked::Outcome::refused, 2, 2048};
    EXPECT_THAT(map.areas(),
                ElementsAre(AreaMap::Area{0, 100, {}}, AreaMap::Area{100, 20, held}, AreaMap::Area{120, 10, refused},
                            AreaMap::Area{130, 70, held}, AreaMap::Area{200, 700, {}}, AreaMap::Area{900, 50, refused},
                            AreaMap::Area{950, 50, slowly}));
    EXPECT_EQ(map.next_refused(0, 50), (Extent{50, 50}));
    EXPECT_EQ(map.next_refused(1, 130), (Extent{900, 50}));
    EXPECT_EQ(map.next_refused(3, 0).length, 0U);
    EXPECT_EQ(map.previous_refused(1, 900), (Extent{120, 10}));
    EXPECT_EQ(map.previous_refused(0, 1000), (Extent{200, 700}));
    EXPECT_THAT(map.not_held_in({110, 100}), ElementsAre(Extent{120, 10}, Extent{200, 10}));
    EXPECT_EQ(map.totals().refused_areas, 2U);
    EXPECT_EQ(map.totals_in({940, 20}).refused(), 20U);
    map.answer({120, 10}, true);
    map.set(120, 10, held);
    EXPECT_THAT(map.areas_that_are(Asked::Outcome::held), ElementsAre(Extent{100, 100}));
    const TempFolder folder;
    map.facts["path"] = "nest \"card\"";
    map.runs.push_back({"2026-05-02T09:14:00Z", 12, 3, 1, 2048});
    ASSERT_TRUE(map.write(folder / "m.json"));
    const auto read = AreaMap::read(folder / "m.json");
    ASSERT_TRUE(read) << read.error().line();
    EXPECT_EQ(read->areas(), map.areas());
    EXPECT_EQ(read->facts, map.facts);
    EXPECT_EQ(read->runs, map.runs);
}

TEST(AreaMapTest, IsRefusedWhereItContradictsItself) {
    const TempFolder folder;
    const std::string head = R"({"about":"what a copy made by dredger holds of its medium","size":1000,"areas":)";
    test::write_text(folder / "m.json", head + R"([[0,1000,"held",1,0]]})");
    EXPECT_TRUE(AreaMap::read(folder / "m.json"));
    for (const char* areas :
         {R"([[0,2000,"held",1,0]]})", R"([[500,10,"held",1,0],[100,10,"refused",1,0]]})", R"([[0,10,"fine",1,0]]})",
          R"([[0,10]]})", R"({"a":1}})", R"([[-5,10,"held",1,0]]})", R"([[0,10,"held",0,0]]})",
          R"([[0,10,"unasked",3,0]]})", R"([[0,10,"held",1000,0]]})", ""}) {
        test::write_text(folder / "m.json", head + areas);
        EXPECT_FALSE(AreaMap::read(folder / "m.json")) << areas;
    }
}

// A scan must not wear out a failing drive.
TEST(SparingMedium, NeverAsksTwiceForWhatFailed) {
    auto failing = std::make_shared<FailingMedium>(noise(4 << 20));
    failing->break_area({1 << 20, 1 << 20});
    const Sparing medium(failing, {});
    std::vector<std::byte> bytes(256 << 10);
    for (int round = 0; round < 3; ++round)
        for (std::uint64_t at = 0; at < medium.size(); at += bytes.size()) {
            std::vector<Extent> bad;
            ASSERT_TRUE(medium.read(at, bytes, &bad));
            const bool is_bad = at >= (1 << 20) && at < (2 << 20);
            EXPECT_EQ(bad.empty(), !is_bad) << at;
        }
    unsigned most = 0, attempts = 0;
    for (std::uint64_t s = (1 << 20) / kSector; s < (2 << 20) / kSector; ++s) {
        most = std::max(most, failing->asked(s));
        attempts += failing->asked(s);
    }
    EXPECT_LE(most, 2U);
    EXPECT_LT(attempts, 3U * 2048);
    EXPECT_THAT(medium.bad_areas(), ElementsAre(Extent{1 << 20, 1 << 20}));
    const Sparing again(failing, medium.bad_areas());
    const unsigned before = failing->asked((1 << 20) / kSector);
    std::vector<Extent> bad;
    ASSERT_TRUE(again.read(1 << 20, bytes, &bad));
    EXPECT_THAT(bad, ElementsAre(Extent{1 << 20, bytes.size()}));
    EXPECT_EQ(failing->asked((1 << 20) / kSector), before);
}

}  // namespace
}  // namespace dredger
