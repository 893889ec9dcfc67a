// Fonts, whole, damaged and in two pieces: their tables have checksums.
#include <gtest/gtest.h>

#include "carving/joining.h"
#include "support/support.h"

namespace dredger {
namespace {

using test::MemoryMedium;

constexpr std::uint64_t kGrain = 512;

class Font : public testing::TestWithParam<const char*> {
  protected:
    static std::vector<std::byte> sample() { return test::samples().at(GetParam()); }
    static const Format& format() {
        const std::string name = GetParam();
        return *format_named(name.substr(0, name.find('-')));
    }
    static Measured measured(const std::vector<std::byte>& bytes) {
        const MemoryMedium medium(bytes);
        Budget budget;
        Reader reader(medium, budget);
        return measure(format(), reader);
    }
};

TEST_P(Font, IsProvenByTheChecksumsOfItsTables) {
    const auto bytes = sample();
    const Measured found = measured(bytes);
    EXPECT_TRUE(found.is_whole());
    EXPECT_EQ(found.length, bytes.size());
    EXPECT_EQ(found.proof, Proof::checksums);
}

TEST_P(Font, ATableThatIsWrongIsNamedByItsPlace) {
    for (std::size_t at = 700; at < sample().size() - 8; at += 97) {
        auto bytes = sample();
        bytes[at] ^= std::byte{0x55};
        const Measured found = measured(bytes);
        if (found.is_whole()) continue;  // filling between tables, or the sum of the whole font
        ASSERT_EQ(found.end, Measured::End::broken) << at;
        EXPECT_LE(found.sure, at);
        EXPECT_GT(found.length, at);
        EXPECT_EQ(found.expected, bytes.size());
    }
}

TEST_P(Font, ItsRestIsFoundByItsTables) {
    const auto font = sample();
    for (const std::uint64_t split : {2 * kGrain, 3 * kGrain}) {
        for (const std::uint64_t foreign : {3 * kGrain, 700 * kGrain}) {
            const auto others = test::noise(static_cast<std::size_t>(foreign), 5);
            std::vector<std::byte> ground(font.begin(), font.begin() + static_cast<std::ptrdiff_t>(split));
            ground.insert(ground.end(), others.begin(), others.end());
            ground.insert(ground.end(), font.begin() + static_cast<std::ptrdiff_t>(split), font.end());
            ground.resize((ground.size() + kGrain - 1) / kGrain * kGrain);
            const MemoryMedium medium(ground);
            Remains remains(medium.size(), kGrain);
            remains.hold({0, kGrain});
            remains.settle();
            const TornFile torn{.start = 0, .format = &format(), .measured = measured(ground), .own = medium.size()};
            const auto whole = join(medium, remains, torn, {});
            ASSERT_TRUE(whole) << split << " " << foreign;
            EXPECT_TRUE(whole->is_proven());
            EXPECT_EQ(whole->pieces, (std::vector<Extent>{{0, split}, {split + foreign, font.size() - split}}));
        }
    }
}

INSTANTIATE_TEST_SUITE_P(Samples, Font, testing::Values("ttf-subset.ttf", "woff-subset.woff"));

}  // namespace
}  // namespace dredger
