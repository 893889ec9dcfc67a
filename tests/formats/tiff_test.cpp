// TIFF pictures whose strips are packed: what proves them, and what that finds.
#include <gtest/gtest.h>
#include <zlib.h>

#include "formats/two_pieces.h"

namespace dredger {
namespace {

using Bytes = std::vector<std::byte>;
using test::MemoryMedium;

Measured measured(const Bytes& bytes) {
    const MemoryMedium medium(bytes);
    Budget budget;
    Reader reader(medium, budget);
    return measure(*format_named("tiff"), reader);
}

// A grey picture of `strips` strips (two or more) of 64 rows, each packed by itself.
class Picture {
  public:
    static constexpr std::uint32_t kWidth = 200, kRows = 64;

    Picture(std::uint32_t strips, bool is_runs) {
        constexpr std::uint32_t kDirectory = 8, kEntries = 8, kLists = kDirectory + 2 + kEntries * 12 + 4;
        std::vector<Bytes> packed;
        std::uint32_t at = kLists + 8 * strips;
        for (std::uint32_t n = 0; n < strips; ++n) {
            packed.push_back(is_runs ? runs() : deflated(test::noise(kWidth * kRows / 2, n)));
            strips_.push_back({at, packed.back().size()});
            at += static_cast<std::uint32_t>(packed.back().size());
        }
        number(0x2A4949, 4);
        number(kDirectory, 4);
        number(kEntries, 2);
        entry(256, 1, kWidth);
        entry(257, 1, kRows * strips);
        entry(258, 1, 8);
        entry(259, 1, is_runs ? 32773 : 8);
        entry(273, strips, kLists);
        entry(277, 1, 1);
        entry(278, 1, kRows);
        entry(279, strips, kLists + 4 * strips);
        number(0, 4);
        for (const Extent& strip : strips_) number(static_cast<std::uint32_t>(strip.offset), 4);
        for (const Extent& strip : strips_) number(static_cast<std::uint32_t>(strip.length), 4);
        for (const Bytes& strip : packed) bytes_.insert(bytes_.end(), strip.begin(), strip.end());
    }

    const Bytes& bytes() const { return bytes_; }
    Extent strip(std::size_t n) const { return strips_[n]; }

  private:
    void number(std::uint32_t value, unsigned size) {
        for (unsigned i = 0; i < size; ++i) bytes_.push_back(static_cast<std::byte>(value >> (8 * i)));
    }
    void entry(std::uint32_t tag, std::uint32_t count, std::uint32_t value) {
        number(tag, 2);
        number(4, 2);
        number(count, 4);
        number(value, 4);
    }
    static Bytes deflated(Bytes half) {
        half.resize(kWidth * kRows, std::byte{7});
        uLongf size = compressBound(half.size());
        Bytes out(size);
        compress(reinterpret_cast<Bytef*>(out.data()), &size, reinterpret_cast<const Bytef*>(half.data()), half.size());
        out.resize(size);
        return out;
    }
    // Rows of a hundred bytes as they are, and one that is repeated a hundred times.
    static Bytes runs() {
        Bytes out;
        for (std::uint32_t row = 0; row < kRows; ++row) {
            out.push_back(std::byte{99});
            for (std::uint32_t i = 0; i < 100; ++i) out.push_back(static_cast<std::byte>(i * row));
            out.push_back(static_cast<std::byte>(257 - 100));
            out.push_back(static_cast<std::byte>(row));
        }
        return out;
    }

    Bytes bytes_;
    std::vector<Extent> strips_;
};

TEST(Tiff, ChecksumsOfItsStripsProveIt) {
    const Measured found = measured(Picture(6, false).bytes());
    EXPECT_TRUE(found.is_whole());
    EXPECT_EQ(found.proof, Proof::checksums);
}

TEST(Tiff, StripsThatLeadToTheirEndsSpeakForIt) {
    EXPECT_EQ(measured(Picture(6, true).bytes()).proof, Proof::structure);
    const Measured lzw = measured(test::samples().at("tiff-strips.tiff"));
    EXPECT_TRUE(lzw.is_whole());
    EXPECT_EQ(lzw.proof, Proof::structure);
}

TEST(Tiff, AWrongStripIsNamedByItsPlace) {
    for (const bool is_runs : {false, true}) {
        const Picture picture(6, is_runs);
        const Extent third = picture.strip(2);
        Bytes damaged = picture.bytes();
        std::fill_n(damaged.begin() + static_cast<std::ptrdiff_t>(third.offset + 1000), 600, std::byte{0xA5});
        const Measured found = measured(damaged);
        ASSERT_EQ(found.end, Measured::End::broken);
        EXPECT_EQ(found.sure, third.offset);
        EXPECT_LE(found.length, third.end());
        EXPECT_EQ(found.expected, damaged.size());
        EXPECT_TRUE(found.has_its_end);
    }
}

// One of a kind that is unknown, or no strip at all where the tag says so: nothing is known against it.
TEST(Tiff, AStripOfAnotherKindIsNoDamage) {
    const Picture picture(2, false);
    Bytes other = picture.bytes();
    std::fill(other.begin() + static_cast<std::ptrdiff_t>(picture.strip(0).offset), other.end(), std::byte{0x11});
    const Measured found = measured(other);
    EXPECT_TRUE(found.is_whole());
    EXPECT_EQ(found.proof, Proof::length);
}

TEST(Tiff, ItsTwoPiecesMeetWhereItsStripsUnpack) {
    for (const bool is_runs : {false, true})
        test::expect_joined(*format_named("tiff"), Picture(6, is_runs).bytes(), 20 * 512, 6 * 512);
}

}  // namespace
}  // namespace dredger
