// What is asked of a failing medium, on nothing but its map.
#include "imaging/passes.h"

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

// Up to `most` reads; whether it came to its end.
bool go_on(AreaMap& map, const PassOptions& options, Sectors& sectors, std::size_t most = ~std::size_t{0}) {
    Passes passes(map, options);
    for (std::size_t n = 0; n < most; ++n) {
        const auto wanted = passes.next();
        if (!wanted) return true;
        passes.answer(*wanted, sectors.read(*wanted));
    }
    return false;
}

void expect_all_is_known(const AreaMap& map, const Sectors& sectors) {
    for (const AreaMap::Area& area : map.areas()) {
        ASSERT_TRUE(area.state == AreaState::done || area.state == AreaState::bad) << area.offset;
        for (std::uint64_t s = area.offset / kSector; s * kSector < area.offset + area.length; ++s)
            ASSERT_EQ(area.state == AreaState::bad, sectors.bad().contains(s)) << s;
    }
}

constexpr unsigned kMedia = 40;

TEST(Passes, EveryGoodSectorComesAndNoneIsAskedForTooOften) {
    for (unsigned seed = 0; seed < kMedia; ++seed) {
        SCOPED_TRACE(seed);
        std::minstd_rand chance(seed);
        // Some media end within a sector.
        Sectors sectors((1 + chance() % 3000) * kSector - chance() % 2 * 100);
        for (auto areas = chance() % 12; areas > 0; --areas)
            sectors.break_area(chance() % 3000, 1 + chance() % (chance() % 3 == 0 ? 400 : 3));
        PassOptions options;
        options.block = kSector << (chance() % 8);
        options.retries = static_cast<unsigned>(chance() % 3);
        options.reverse = chance() % 2 == 1;
        AreaMap map(sectors.size());
        ASSERT_TRUE(go_on(map, options, sectors));
        expect_all_is_known(map, sectors);
        for (std::uint64_t s = 0; s * kSector < sectors.size(); ++s) {
            if (sectors.bad().contains(s))
                EXPECT_LE(sectors.asked(s), 2 + options.retries) << s;
            else
                EXPECT_LE(sectors.asked(s), 2U) << s;
        }
    }
}

TEST(Passes, GoneOnWithAnywhereNothingIsLost) {
    for (unsigned seed = 0; seed < kMedia; ++seed) {
        SCOPED_TRACE(seed);
        std::minstd_rand chance(seed + 1000);
        Sectors sectors((500 + chance() % 2000) * kSector);
        for (auto areas = 1 + chance() % 6; areas > 0; --areas) sectors.break_area(chance() % 2500, 1 + chance() % 60);
        PassOptions options;
        options.block = kSector << (2 + chance() % 6);
        AreaMap map(sectors.size());
        unsigned runs = 1;
        while (!go_on(map, options, sectors, 1 + chance() % 40)) {
            options.reverse = chance() % 2 == 1;  // whatever is asked for in the next run
            ASSERT_LT(++runs, 10'000U);
        }
        expect_all_is_known(map, sectors);
        for (std::uint64_t s = 0; s * kSector < sectors.size(); ++s) EXPECT_LE(sectors.asked(s), 2U) << s;
    }
}

TEST(Passes, NothingOutsideTheRangeIsAskedFor) {
    for (unsigned seed = 0; seed < kMedia; ++seed) {
        SCOPED_TRACE(seed);
        std::minstd_rand chance(seed + 2000);
        Sectors sectors(2000 * kSector);
        for (auto areas = chance() % 6; areas > 0; --areas) sectors.break_area(chance() % 2000, 1 + chance() % 60);
        PassOptions options;
        options.block = kSector << (chance() % 8);
        options.reverse = chance() % 2 == 1;
        options.retries = 1;
        const std::uint64_t first = chance() % 1900, count = 1 + chance() % 100;
        options.range = {first * kSector, count * kSector};
        AreaMap map(sectors.size());
        ASSERT_TRUE(go_on(map, options, sectors));
        for (std::uint64_t s = 0; s < 2000; ++s) EXPECT_EQ(sectors.asked(s) > 0, s >= first && s < first + count) << s;
        EXPECT_EQ(map.totals().of(AreaState::untried), sectors.size() - options.range.length);
    }
}

TEST(Passes, LargeReadsLieAtMultiplesOfTheirSize) {
    AreaMap map(10 * 4096);
    map.set(1024, 512, AreaState::done);
    PassOptions options;
    options.block = 4096;
    Passes passes(map, options);
    std::vector<Extent> asked;
    while (const auto wanted = passes.next()) {
        asked.push_back(*wanted);
        passes.answer(*wanted, true);
    }
    ASSERT_EQ(asked.size(), 11U);
    EXPECT_EQ(asked[0], (Extent{0, 1024}));
    EXPECT_EQ(asked[1], (Extent{1536, 4096 - 1536}));
    EXPECT_EQ(asked[2], (Extent{4096, 4096}));
}

TEST(Passes, AfterFailuresInARowItGoesOnFurtherAwayAndComesBack) {
    AreaMap map(1024 * 4096);
    PassOptions options;
    options.block = 4096;
    Passes passes(map, options);
    std::vector<std::uint64_t> asked;
    while (passes.kind() == Passes::Kind::large) {
        const auto wanted = passes.next();
        if (!wanted || passes.kind() != Passes::Kind::large) break;
        asked.push_back(wanted->offset / 4096);
        passes.answer(*wanted, wanted->offset / 4096 >= 512);
    }
    EXPECT_EQ(std::vector(asked.begin(), asked.begin() + 6), (std::vector<std::uint64_t>{0, 1, 4, 9, 18, 35}));
    // All of it was asked for once in the end.
    EXPECT_EQ(std::set(asked.begin(), asked.end()).size(), 1024U);
    EXPECT_EQ(asked.size(), 1024U);
}

TEST(Passes, ClosingInEndsAtTheFirstFailureOfEachSide) {
    AreaMap map(16 * kSector);
    Sectors sectors(16 * kSector);
    sectors.break_area(4, 1);
    sectors.break_area(9, 1);
    PassOptions options;
    options.block = 16 * kSector;
    Passes passes(map, options);
    std::vector<std::pair<Passes::Kind, std::uint64_t>> asked;
    while (const auto wanted = passes.next()) {
        asked.emplace_back(passes.kind(), wanted->offset / kSector);
        passes.answer(*wanted, sectors.read(*wanted));
    }
    using Kind = Passes::Kind;
    const std::vector<std::pair<Kind, std::uint64_t>> expected = {
        {Kind::large, 0}, {Kind::ends, 0},   {Kind::ends, 1},   {Kind::ends, 2},   {Kind::ends, 3},  {Kind::ends, 4},
        {Kind::ends, 15}, {Kind::ends, 14},  {Kind::ends, 13},  {Kind::ends, 12},  {Kind::ends, 11}, {Kind::ends, 10},
        {Kind::ends, 9},  {Kind::single, 5}, {Kind::single, 6}, {Kind::single, 7}, {Kind::single, 8}};
    EXPECT_EQ(asked, expected);
}

TEST(Passes, RoundsOverWhatIsBadGoByTurns) {
    AreaMap map(8 * kSector);
    map.set(0, 8 * kSector, AreaState::done);
    map.set(2 * kSector, 3 * kSector, AreaState::bad);
    PassOptions options;
    options.retries = 2;
    Passes passes(map, options);
    std::vector<std::uint64_t> asked;
    while (const auto wanted = passes.next()) {
        asked.push_back(wanted->offset / kSector);
        EXPECT_EQ(passes.kind(), Passes::Kind::again);
        passes.answer(*wanted, wanted->offset == 3 * kSector && passes.round() == 2);
    }
    EXPECT_EQ(asked, (std::vector<std::uint64_t>{4, 3, 2, 2, 3, 4}));
    EXPECT_EQ(map.totals().of(AreaState::bad), 2 * kSector);
}

}  // namespace
}  // namespace dredger
