// Fonts, whole, damaged and in two pieces: their tables have checksums.
#include <gtest/gtest.h>

#include "formats/two_pieces.h"

namespace dredger {
namespace {

using test::MemoryMedium;

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
    for (const std::uint64_t split : {1024U, 1536U})
        for (const std::uint64_t foreign : {3U * 512, 700U * 512})
            test::expect_joined(format(), sample(), split, foreign);
}

INSTANTIATE_TEST_SUITE_P(Samples, Font, testing::Values("ttf-subset.ttf", "woff-subset.woff"));

}  // namespace
}  // namespace dredger
