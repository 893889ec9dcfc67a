#include "base/bytes.h"

#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

TEST(ByteView, ReadsLittleEndianNumbers) {
    const auto bytes = test::bytes_of("\x01\x02\x03\x04\x05\x06\x07\x08");
    const ByteView view(bytes);
    EXPECT_EQ(view.u8(1).value(), 0x02);
    EXPECT_EQ(view.u16le(0).value(), 0x0201);
    EXPECT_EQ(view.u32le(4).value(), 0x08070605U);
    EXPECT_EQ(view.u64le(0).value(), 0x0807060504030201U);
}

TEST(ByteView, AReadPastTheEndNamesThePlaceOnTheMedium) {
    const auto bytes = test::bytes_of("abcd");
    const ByteView view(bytes, 1000);
    const auto read = view.u32le(2);
    ASSERT_FALSE(read);
    EXPECT_EQ(read.error().where, "offset 1002");
    EXPECT_NE(read.error().what.find("4 bytes"), std::string::npos);
    EXPECT_FALSE(view.slice(1, 4));
    EXPECT_FALSE(view.slice(static_cast<std::size_t>(-1), 2));
    EXPECT_FALSE(view.u8(4));
}

TEST(ByteView, ASliceKeepsItsPlace) {
    const auto bytes = test::bytes_of("abcdef");
    const auto part = ByteView(bytes, 50).slice(2, 3).value();
    EXPECT_EQ(part.origin(), 52U);
    EXPECT_TRUE(part.has(0, "cde"));
    EXPECT_FALSE(part.has(1, "dez"));
    EXPECT_FALSE(part.has(2, "ef"));
}

TEST(ByteView, KnowsOneRepeatedByte) {
    EXPECT_TRUE(ByteView(test::bytes_of("aaaa")).is_uniform());
    EXPECT_FALSE(ByteView(test::bytes_of("aaab")).is_uniform());
    EXPECT_TRUE(ByteView().is_uniform());
}

TEST(Checked, ResultsThatDoNotFitAreNoResults) {
    EXPECT_EQ(checked_add(2, 3), 5U);
    EXPECT_FALSE(checked_add(UINT64_MAX, 1));
    EXPECT_FALSE(checked_mul(UINT64_MAX / 2, 3));
    EXPECT_TRUE(lies_within(10, 0, 10));
    EXPECT_FALSE(lies_within(10, 1, 10));
    EXPECT_FALSE(lies_within(5, UINT64_MAX, 10));
    EXPECT_EQ(divide_up(9, 4), 3U);
    EXPECT_EQ(divide_up(UINT64_MAX, 2), (UINT64_MAX / 2) + 1);
}

TEST(ErrorLine, SaysWhatWhereAndWhatToDo) {
    EXPECT_EQ((Error{ErrorKind::usage, "no such thing", "place", "do this"}).line(), "no such thing: place; do this");
    EXPECT_EQ((Error{ErrorKind::usage, "no such thing", "", ""}).line(), "no such thing");
}

}  // namespace
}  // namespace dredger
