// Torn files that lie among each other: each that is put together leaves less for the others.
#include "carving/puzzle.h"

#include <gmock/gmock.h>
#include <map>

#include "support/support.h"

namespace dredger {
namespace {

using test::MemoryMedium;
using testing::ElementsAre;

constexpr std::uint64_t kCluster = 512;

// Clusters that bear the letter of their file and a number; whole with `count` of them.
Format lettered(char letter, std::uint64_t count) {
    Format format;
    format.name = "lettered";
    format.measure = [=](Reader& content) {
        for (std::uint64_t n = 0; n < count; ++n)
            if (content.u8(n * kCluster) != static_cast<unsigned char>(letter) || content.u8(n * kCluster + 1) != n)
                return n == 0 ? nonsense()
                              : broken_between(n * kCluster, n * kCluster + 1, "a number is missing", count * kCluster);
        return whole(count * kCluster, Proof::checksums);
    };
    return format;
}

class Surface {
  public:
    Surface& add(char letter, unsigned from, unsigned to) {
        for (unsigned n = from; n < to; ++n) {
            std::vector<std::byte> one(kCluster, std::byte{'.'});
            one[0] = static_cast<std::byte>(letter);
            one[1] = static_cast<std::byte>(n);
            bytes_.insert(bytes_.end(), one.begin(), one.end());
        }
        return *this;
    }
    MediumPtr medium() const { return std::make_shared<MemoryMedium>(bytes_); }

  private:
    std::vector<std::byte> bytes_;
};

TornFile torn(const MediumPtr& ground, std::uint64_t start, const Format& format) {
    Budget budget;
    Reader reader(*ground, budget, start);
    return {.start = start, .format = &format, .measured = measure(format, reader), .own = ground->size() - start};
}

std::map<std::size_t, std::vector<Extent>> solved(const MediumPtr& ground, const std::vector<TornFile>& files,
                                                  unsigned workers) {
    std::map<std::size_t, std::vector<Extent>> pieces;
    Puzzle puzzle(ground, Remains(ground->size(), kCluster), files, JoinLimits(), workers);
    const auto done = puzzle.solve({[](const Puzzle::Progress&) { return true; },
                                    [&](std::size_t file, const Joined& joined) -> Result<void> {
                                        if (joined.is_whole) pieces[file] = joined.pieces;
                                        return {};
                                    }});
    EXPECT_TRUE(done && *done);
    return pieces;
}

TEST(Puzzle, FilesThatWereWrittenByTurns) {
    const Format a = lettered('a', 9), b = lettered('b', 7);
    const auto ground =
        Surface().add('a', 0, 3).add('b', 0, 2).add('a', 3, 6).add('b', 2, 5).add('a', 6, 9).add('b', 5, 7).medium();
    const std::vector<TornFile> files = {torn(ground, 0, a), torn(ground, 3 * kCluster, b)};
    const auto pieces = solved(ground, files, 2);
    ASSERT_EQ(pieces.size(), 2U);
    EXPECT_THAT(pieces.at(0), ElementsAre(Extent{0, 3 * kCluster}, Extent{5 * kCluster, 3 * kCluster},
                                          Extent{11 * kCluster, 3 * kCluster}));
    EXPECT_THAT(pieces.at(1), ElementsAre(Extent{3 * kCluster, 2 * kCluster}, Extent{8 * kCluster, 3 * kCluster},
                                          Extent{14 * kCluster, 2 * kCluster}));
    EXPECT_EQ(solved(ground, files, 1), pieces) << "the number of workers changes nothing";
}

TEST(Puzzle, EndsWhenItIsTold) {
    const Format a = lettered('a', 9);
    const auto ground = Surface().add('a', 0, 3).add('x', 0, 200).medium();
    Puzzle puzzle(ground, Remains(ground->size(), kCluster), {torn(ground, 0, a)}, JoinLimits());
    const auto done = puzzle.solve(
        {[](const Puzzle::Progress&) { return false; }, [](std::size_t, const Joined&) -> Result<void> { return {}; }});
    ASSERT_TRUE(done);
    EXPECT_FALSE(*done);
}

}  // namespace
}  // namespace dredger
