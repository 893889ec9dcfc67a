#include "base/amounts.h"

#include <gtest/gtest.h>

namespace dredger {
namespace {

TEST(Amounts, CountsHaveACommaBetweenThousands) {
    EXPECT_EQ(count_text(0), "0");
    EXPECT_EQ(count_text(999), "999");
    EXPECT_EQ(count_text(1000), "1,000");
    EXPECT_EQ(count_text(12'345), "12,345");
    EXPECT_EQ(count_text(1'234'567), "1,234,567");
    EXPECT_EQ(count_text(UINT64_MAX), "18,446,744,073,709,551,615");
}

TEST(Amounts, SizesTakeTheUnitThatFits) {
    EXPECT_EQ(size_text(0), "0 B");
    EXPECT_EQ(size_text(1023), "1023 B");
    EXPECT_EQ(size_text(1024), "1.0 KiB");
    EXPECT_EQ(size_text((1 << 20) - 1), "1.0 MiB") << "never 1024.0 KiB";
    EXPECT_EQ(size_text(std::uint64_t{3} << 29), "1.5 GiB");
    EXPECT_EQ(size_text(UINT64_MAX), "16.0 EiB");
}

}  // namespace
}  // namespace dredger
