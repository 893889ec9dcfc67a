// WebP has no checksums, but a picture that is followed to its last point ends where its data does, or something is
// wrong.
#include <gtest/gtest.h>

#include "formats/vp8.h"
#include "formats/vp8l.h"
#include "two_pieces.h"

namespace dredger {
namespace {

using formats::vp8_fills;
using formats::vp8l_fills;

constexpr std::size_t kChunk = 20;  // bytes in front of the picture's

std::vector<std::byte> sample(const std::string& name) {
    static const auto all = test::samples();
    return all.at(name);
}

std::span<const std::byte> picture(const std::vector<std::byte>& file) {
    const ByteView head(file);
    return std::span(file).subspan(kChunk, *head.u32le(16));
}

TEST(WebP, PicturesFillTheirData) {
    const auto lossy = sample("webp-lossy.webp"), lossless = sample("webp-lossless.webp");
    EXPECT_EQ(vp8_fills(picture(lossy)), true);
    EXPECT_EQ(vp8l_fills(picture(lossless)), true);
    EXPECT_EQ(vp8_fills(picture(lossless)), std::nullopt) << "the other kind";
    EXPECT_EQ(vp8l_fills(picture(lossy)), std::nullopt);
}

// In a lossy picture; in a lossless one mostly, for its codes find back behind them.
TEST(WebP, ForeignBytesAreSeen) {
    const auto seen = [](const char* name, const auto& fills) {
        const auto file = sample(name);
        unsigned count = 0;
        for (unsigned n = 0; n < 16; ++n) {
            auto changed = file;
            const std::size_t at = kChunk + 64 + n * (file.size() - kChunk - 64 - 256) / 16;
            const auto foreign = test::noise(128, n);
            std::copy(foreign.begin(), foreign.end(), changed.begin() + static_cast<std::ptrdiff_t>(at));
            count += fills(picture(changed)) == std::optional(true) ? 0 : 1;
        }
        return count;
    };
    EXPECT_GE(seen("webp-lossy.webp", vp8_fills), 15U);
    EXPECT_GE(seen("webp-lossless.webp", vp8l_fills), 8U);
}

// Near its end little may be wrong all the same.
TEST(WebP, IsNotCalledProvenForThat) {
    const auto proof = [](const char* name) {
        const test::MemoryMedium medium(sample(name));
        Budget budget;
        Reader reader(medium, budget);
        return measure(*format_named("webp"), reader).proof;
    };
    EXPECT_EQ(proof("webp-lossy.webp"), Proof::chain);
    EXPECT_EQ(proof("webp-lossless.webp"), Proof::length);
}

TEST(WebP, CutDataIsNotFilled) {
    const auto file = sample("webp-lossless.webp");
    for (std::size_t keep = 32; keep + 32 < picture(file).size(); keep += 977)
        EXPECT_NE(vp8l_fills(picture(file).first(keep)), std::optional(true)) << keep;
    const auto lossy = sample("webp-lossy.webp");
    for (std::size_t keep = 32; keep + 32 < picture(lossy).size(); keep += 97)
        EXPECT_NE(vp8_fills(picture(lossy).first(keep)), std::optional(true)) << keep;
}

// Where the data goes wrong nothing tells, but where files end does, and of all ways one fits.
TEST(WebP, IsPutTogetherFromTwoPieces) {
    const auto file = sample("webp-lossy.webp");
    const auto whole = test::joined_from_two(*format_named("webp"), file, 512, 1536, true);
    ASSERT_TRUE(whole);
    EXPECT_TRUE(whole->is_whole);
    EXPECT_EQ(whole->pieces, (std::vector<Extent>{{0, 512}, {2048, file.size() - 512}}));
}

}  // namespace
}  // namespace dredger
