// What is asked of a failing medium, on nothing but its map.
#include "imaging/asking.h"

#include <gtest/gtest.h>
#include <map>
#include <random>
#include <set>

namespace dredger {
namespace {

constexpr std::uint64_t kSector = 512;

// A medium of which only is known which sectors are bad, and how often each was asked for.
class Sectors {
  public:
    explicit Sectors(std::uint64_t size) : size_(size) {}

    void break_area(std::uint64_t first, std::uint64_t count) {
        for (std::uint64_t s = first; s < first + count && s * kSector < size_; ++s) bad_.insert(s);
    }
    bool read(const Extent& wanted) {
        EXPECT_GT(wanted.length, 0U);
        EXPECT_LE(wanted.end(), size_);
        bool fine = true;
        for (std::uint64_t s = wanted.offset / kSector; s * kSector < wanted.end(); ++s) {
            ++asked_[s];
            fine = fine && !bad_.contains(s);
        }
        return fine;
    }
    std::uint64_t size() const { return size_; }
    const std::set<std::uint64_t>& bad() const { return bad_; }
    unsigned asked(std::uint64_t sector) const {
        const auto found = asked_.find(sector);
        return found == asked_.end() ? 0 : found->second;
    }

  private:
    std::uint64_t size_;
    std::set<std::uint64_t> bad_;
    std::map<std::uint64_t, unsigned> asked_;
};

// Up to `most` asks; whether it came to its end.
bool go_on(AreaMap& map, const AskOptions& options, Sectors& sectors, std::size_t most = ~std::size_t{0}) {
    Asking asking(map, options);
    for (std::size_t n = 0; n < most; ++n) {
        const auto wanted = asking.next();
        if (!wanted) return true;
        asking.answer(*wanted, sectors.read(*wanted));
    }
    return false;
}

void expect_all_is_known(const AreaMap& map, const Sectors& sectors) {
    for (const AreaMap::Area& area : map.areas()) {
        ASSERT_NE(area.asked.outcome, Asked::Outcome::unasked) << area.offset;
        for (std::uint64_t s = area.offset / kSector; s * kSector < area.offset + area.length; ++s)
            ASSERT_EQ(area.asked.outcome == Asked::Outcome::refused, sectors.bad().contains(s)) << s;
    }
}

constexpr unsigned kMedia = 40;

TEST(Asking, EveryGoodSectorComesAndNoneIsAskedForTooOften) {
    for (unsigned seed = 0; seed < kMedia; ++seed) {
        SCOPED_TRACE(seed);
        std::minstd_rand chance(seed);
        // Some media end within a sector.
        Sectors sectors((1 + chance() % 3000) * kSector - chance() % 2 * 100);
        for (auto areas = chance() % 12; areas > 0; --areas)
            sectors.break_area(chance() % 3000, 1 + chance() % (chance() % 3 == 0 ? 400 : 3));
        AskOptions options;
        options.piece = kSector << (chance() % 8);
        options.asks = 4 + static_cast<unsigned>(chance() % 3);
        options.backwards = chance() % 2 == 1;
        AreaMap map(sectors.size());
        ASSERT_TRUE(go_on(map, options, sectors));
        expect_all_is_known(map, sectors);
        for (std::uint64_t s = 0; s * kSector < sectors.size(); ++s) {
            if (sectors.bad().contains(s))
                EXPECT_EQ(sectors.asked(s), options.asks) << s;
            else
                EXPECT_LE(sectors.asked(s), 4U) << s;
        }
    }
}

TEST(Asking, GoneOnWithAnywhereNothingIsLost) {
    for (unsigned seed = 0; seed < kMedia; ++seed) {
        SCOPED_TRACE(seed);
        std::minstd_rand chance(seed + 1000);
        Sectors sectors((500 + chance() % 2000) * kSector);
        for (auto areas = 1 + chance() % 6; areas > 0; --areas) sectors.break_area(chance() % 2500, 1 + chance() % 60);
        AskOptions options;
        options.piece = kSector << (2 + chance() % 6);
        AreaMap map(sectors.size());
        unsigned runs = 1;
        while (!go_on(map, options, sectors, 1 + chance() % 40)) {
            options.backwards = chance() % 2 == 1;  // whatever is asked for in the next run
            ASSERT_LT(++runs, 10'000U);
        }
        expect_all_is_known(map, sectors);
        for (std::uint64_t s = 0; s * kSector < sectors.size(); ++s) EXPECT_LE(sectors.asked(s), 5U) << s;
    }
}

TEST(Asking, NothingElseThanWhatIsWantedIsAskedFor) {
    for (unsigned seed = 0; seed < kMedia; ++seed) {
        SCOPED_TRACE(seed);
        std::minstd_rand chance(seed + 2000);
        Sectors sectors(2000 * kSector);
        for (auto areas = chance() % 6; areas > 0; --areas) sectors.break_area(chance() % 2000, 1 + chance() % 60);
        AskOptions options;
        options.piece = kSector << (chance() % 8);
        options.backwards = chance() % 2 == 1;
        const std::uint64_t first = chance() % 1900, count = 1 + chance() % 100;
        options.within = {first * kSector, count * kSector};
        AreaMap map(sectors.size());
        ASSERT_TRUE(go_on(map, options, sectors));
        for (std::uint64_t s = 0; s < 2000; ++s) EXPECT_EQ(sectors.asked(s) > 0, s >= first && s < first + count) << s;
        EXPECT_EQ(map.totals().unasked(), sectors.size() - options.within.length);
    }
}

TEST(Asking, PiecesLieAtMultiplesOfTheirSize) {
    AreaMap map(10 * 4096);
    map.answer({1024, 512}, true);
    AskOptions options;
    options.piece = 4096;
    Asking asking(map, options);
    std::vector<Extent> asked;
    while (const auto wanted = asking.next()) {
        asked.push_back(*wanted);
        asking.answer(*wanted, true);
    }
    ASSERT_EQ(asked.size(), 11U);
    EXPECT_EQ(asked[0], (Extent{0, 1024}));
    EXPECT_EQ(asked[1], (Extent{1536, 4096 - 1536}));
    EXPECT_EQ(asked[2], (Extent{4096, 4096}));
}

TEST(Asking, AStretchThatRefusesIsPutOffAndComesInTheEnd) {
    AreaMap map(1024 * 4096);
    AskOptions options;
    options.piece = 4096;
    options.asks = 1;
    Asking asking(map, options);
    std::vector<std::uint64_t> asked;
    while (const auto wanted = asking.next()) {
        asked.push_back(wanted->offset / 4096);
        asking.answer(*wanted, wanted->offset / 4096 >= 512);
    }
    EXPECT_EQ(std::vector(asked.begin(), asked.begin() + 6), (std::vector<std::uint64_t>{0, 1, 4, 9, 18, 35}));
    // All of it was asked for once in the end.
    EXPECT_EQ(std::set(asked.begin(), asked.end()).size(), 1024U);
    EXPECT_EQ(asked.size(), 1024U);
}

TEST(Asking, SlowAnswersPutAStretchOffLikeRefusals) {
    AreaMap map(64 * 4096);
    AskOptions options;
    options.piece = 4096;
    Asking asking(map, options);
    std::vector<std::uint64_t> asked;
    while (const auto wanted = asking.next()) {
        asked.push_back(wanted->offset / 4096);
        asking.answer(*wanted, true, asked.back() < 8 ? 3 * kPrompt : kPrompt / 2);
    }
    EXPECT_EQ(std::vector(asked.begin(), asked.begin() + 4), (std::vector<std::uint64_t>{0, 1, 4, 9}));
    EXPECT_EQ(asked.size(), 64U);
    EXPECT_EQ(map.totals().slow, 8U * 4096);
    EXPECT_EQ(map.areas().front().asked.slowest_ms, 512U);
}

// One bad sector in a mebibyte costs 29 asks, not two thousand.
TEST(Asking, EachRefusalMakesThePiecesAnEighthAsLarge) {
    Sectors sectors(2048 * kSector);
    sectors.break_area(777, 1);
    AreaMap map(sectors.size());
    Asking asking(map, {});
    std::vector<std::uint64_t> sizes;
    while (const auto wanted = asking.next()) {
        sizes.push_back(wanted->length);
        asking.answer(*wanted, sectors.read(*wanted));
    }
    std::map<std::uint64_t, int> count;
    for (const std::uint64_t size : sizes) ++count[size];
    EXPECT_EQ(count, (std::map<std::uint64_t, int>{{1 << 20, 1}, {128 << 10, 8}, {16 << 10, 8}, {2048, 8}, {512, 4}}));
    EXPECT_EQ(map.totals().refused(), kSector);
    EXPECT_TRUE(std::is_sorted(sizes.rbegin(), sizes.rend()));
}

// What is worth most comes first, and what was refused waits until all else was asked for.
TEST(Asking, RanksComeInTheirOrderForEachNumberOfRefusals) {
    Sectors sectors(256 * kSector);
    sectors.break_area(100, 1);
    sectors.break_area(8, 1);
    AskOptions options;
    options.piece = 8 * kSector;
    options.asks = 2;
    AreaMap map(sectors.size());
    Asking asking(map, options, {{{200 * kSector + 5, 20}}, {{100 * kSector, 8 * kSector}, {64 * kSector, 100}}});
    std::vector<std::uint64_t> asked;
    std::vector<std::size_t> ranks;
    while (const auto wanted = asking.next()) {
        asked.push_back(wanted->offset / kSector);
        ranks.push_back(asking.rank() + 10 * asking.refusals());
        asking.answer(*wanted, sectors.read(*wanted));
    }
    EXPECT_EQ(std::vector(asked.begin(), asked.begin() + 5), (std::vector<std::uint64_t>{200, 64, 100, 104, 0}));
    EXPECT_TRUE(std::is_sorted(ranks.begin(), ranks.end()));
    // Of the chosen the four that were refused, then the eight of the rest.
    EXPECT_EQ(std::count(ranks.begin(), ranks.end(), 11U), 4);
    EXPECT_EQ(std::count(ranks.begin(), ranks.end(), 12U), 8);
    EXPECT_EQ(map.totals().refused(), 2 * kSector);
}

TEST(Asking, SectorsThatRefuseAreAskedForFromBothSidesByTurns) {
    AreaMap map(8 * kSector);
    map.answer({0, 8 * kSector}, true);
    map.set(2 * kSector, 3 * kSector, {Asked::Outcome::refused, 1});
    AskOptions options;
    options.piece = kSector;
    options.asks = 3;
    Asking asking(map, options);
    std::vector<std::uint64_t> asked;
    while (const auto wanted = asking.next()) {
        asked.push_back(wanted->offset / kSector);
        asking.answer(*wanted, wanted->offset == 3 * kSector && asking.refusals() == 2);
    }
    EXPECT_EQ(asked, (std::vector<std::uint64_t>{4, 3, 2, 2, 3, 4}));
    EXPECT_EQ(map.totals().refused(), 2 * kSector);
}

}  // namespace
}  // namespace dredger
