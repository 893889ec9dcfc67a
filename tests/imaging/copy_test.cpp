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
        request.block = 64 << 10;
        return request;
    }
    fs::path file() const { return folder_ / "copy.img"; }
    AreaMap map() const { return AreaMap::read(AreaMap::beside(file())).value(); }
    // Every good sector is in the copy, byte for byte; bad ones are zeros and known as bad.
    void expect_all_good_sectors(const FailingMedium& medium) {
        const std::string copy = test::read_text(file());
        ASSERT_EQ(copy.size(), medium.size());
        const auto bad = map().areas_in(AreaState::bad);
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
    EXPECT_EQ(done->totals.not_done(), 0U);
    for (std::uint64_t s = 0; s < 2048; ++s) EXPECT_EQ(medium->asked(s), 1U);
}

TEST_F(CopyTest, EveryGoodSectorComesAndBadOnesAreAskedForAFewTimesOnly) {
    for (const bool reverse : {false, true}) {
        const auto medium = failing(8 << 20);
        std::minstd_rand chance(11);
        // About one in a hundred, in areas of one to thirty sectors.
        for (int n = 0; n < 11; ++n)
            medium->break_area({chance() % ((8 << 20) / kSector) * kSector, (1 + chance() % 30) * kSector});
        medium->break_sector(0);
        medium->break_sector((8 << 20) / kSector - 1);
        CopyRequest request = request_for(medium);
        request.retries = 2;
        request.reverse = reverse;
        const auto done = copy_medium(request, listener_);
        ASSERT_TRUE(done) << done.error().line();
        expect_all_good_sectors(*medium);
        EXPECT_EQ(done->sha256, test::sha256_of(file()));
        for (std::uint64_t s = 0; s * kSector < medium->size(); ++s) {
            // With its block, by itself, and for each retry; good ones at most with their block and by themselves, and
            // now and then when it is asked whether the medium answers at all.
            EXPECT_LE(medium->asked(s), medium->is_bad(s) ? 4U : 2U + 6U) << s;
            EXPECT_GE(medium->asked(s), 1U);
        }
        fs::remove(file());
        fs::remove(AreaMap::beside(file()));
    }
}

TEST_F(CopyTest, WhatFailsNowAndThenComesWithRetries) {
    const auto medium = failing(1 << 20);
    for (const std::uint64_t s : {100U, 101U, 777U}) medium->break_at_first(s, 2);
    CopyRequest request = request_for(medium);
    auto done = copy_medium(request, listener_);
    ASSERT_TRUE(done);
    EXPECT_EQ(done->totals.of(AreaState::bad), 3 * kSector);
    request.retries = 3;
    done = copy_medium(request, listener_);
    ASSERT_TRUE(done) << done.error().line();
    EXPECT_TRUE(done->was_resumed);
    EXPECT_EQ(done->totals.not_done(), 0U);
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
        EXPECT_LE(medium->asked(s), medium->is_bad(s) ? 4U : 3U);
}

TEST_F(CopyTest, AReadThatHangsIsGivenUp) {
    const auto medium = failing(1 << 20);
    medium->hang_at(900);
    CopyRequest request = request_for(medium);
    request.timeout = std::chrono::milliseconds(60);
    const auto done = copy_medium(request, listener_);
    // The block, its first half and the sector itself hang: the medium is asked no more.
    ASSERT_FALSE(done.has_value() && done->totals.not_done() == 0);
    medium->release();
    const auto rest = copy_medium(request, listener_);
    ASSERT_TRUE(rest) << rest.error().line();
    request.retries = 1;
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
    EXPECT_EQ(map().totals().of(AreaState::bad), 0U);
    EXPECT_EQ(map().totals().of(AreaState::done), 39U * (64 << 10));
}

TEST_F(CopyTest, PartsAndRangesAndHoles) {
    std::vector<std::byte> bytes(4 << 20);
    for (std::size_t i = 0; i < 4096; ++i) bytes[(3 << 20) + i] = std::byte{'p'};
    const auto medium = std::make_shared<FailingMedium>(bytes);
    CopyRequest request = request_for(medium);
    request.range = {2 << 20, 1 << 20};
    auto done = copy_medium(request, listener_);
    ASSERT_TRUE(done);
    EXPECT_EQ(done->totals.of(AreaState::untried), 3U << 20);
    EXPECT_TRUE(done->sha256.empty());
    request.range = {0, ~std::uint64_t{0}};
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
    request.range = {1 << 20, 512};
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

TEST(AreaMapTest, KeepsAreasApartAndTogether) {
    AreaMap map(1000);
    map.set(100, 50, AreaState::done);
    map.set(150, 50, AreaState::done);
    map.set(900, 500, AreaState::bad);
    map.set(120, 10, AreaState::left);
    EXPECT_THAT(map.areas(),
                ElementsAre(AreaMap::Area{0, 100, AreaState::untried}, AreaMap::Area{100, 20, AreaState::done},
                            AreaMap::Area{120, 10, AreaState::left}, AreaMap::Area{130, 70, AreaState::done},
                            AreaMap::Area{200, 700, AreaState::untried}, AreaMap::Area{900, 100, AreaState::bad}));
    EXPECT_EQ(map.next(AreaState::done, 110), (Extent{110, 10}));
    EXPECT_EQ(map.next(AreaState::bad, 0), (Extent{900, 100}));
    EXPECT_EQ(map.next(AreaState::narrowed, 0).length, 0U);
    EXPECT_EQ(map.previous(AreaState::done, 150), (Extent{130, 20}));
    EXPECT_EQ(map.previous(AreaState::untried, 1000), (Extent{200, 700}));
    map.set(120, 10, AreaState::done);
    EXPECT_THAT(map.areas_in(AreaState::done), ElementsAre(Extent{100, 100}));
    const TempFolder folder;
    map.facts["path"] = "nest \"card\"";
    ASSERT_TRUE(map.write(folder / "m.json"));
    const auto read = AreaMap::read(folder / "m.json");
    ASSERT_TRUE(read);
    EXPECT_EQ(read->areas(), map.areas());
    EXPECT_EQ(read->facts, map.facts);
}

TEST(AreaMapTest, IsRefusedWhereItContradictsItself) {
    const TempFolder folder;
    const std::string head = R"({"about":"areas of a medium copied by dredger","version":1,"size":1000,"areas":)";
    for (const char* areas : {R"([[0,2000,"done"]]})", R"([[500,10,"done"],[100,10,"bad"]]})", R"([[0,10,"fine"]]})",
                              R"([[0,10]]})", R"({"a":1}})", R"([[-5,10,"done"]]})", ""}) {
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
