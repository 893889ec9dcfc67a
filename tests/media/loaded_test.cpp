#include "media/loaded.h"

#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

TEST(Loaded, ReadsFromMemoryWhatIsThereAndTheRestFromTheMedium) {
    std::vector<std::byte> bytes(4096);
    for (std::size_t i = 0; i < bytes.size(); ++i) bytes[i] = static_cast<std::byte>(i / 16);
    const auto whole = std::make_shared<test::MemoryMedium>(bytes);
    std::vector<std::byte> part(bytes.begin() + 1024, bytes.begin() + 2048);
    part[0] = std::byte{0xEE};  // to tell the two apart
    const Loaded loaded(whole, 1024, part);
    EXPECT_EQ(loaded.size(), 4096U);

    const auto first = [&](std::uint64_t at, std::size_t length) {
        const auto read = loaded.bytes(at, length);
        EXPECT_TRUE(read.has_value());
        return std::to_integer<int>(read->front());
    };
    EXPECT_EQ(first(1024, 1024), 0xEE) << "all of the part";
    EXPECT_EQ(first(1024, 1025), 64) << "one byte more than the part has";
    EXPECT_EQ(first(1023, 2), 63);
    EXPECT_EQ(first(2047, 1), 127);
    EXPECT_EQ(first(2048, 1), 128);
    EXPECT_EQ(first(4095, 1), 255);
    EXPECT_FALSE(loaded.bytes(4095, 2).has_value()) << "past the end of the medium";
}

TEST(Loaded, PassesOnWhatTheMediumCannotRead) {
    const auto whole = std::make_shared<test::MemoryMedium>(std::vector<std::byte>(4096, std::byte{7}));
    whole->make_unreadable({3072, 512});
    const std::vector<std::byte> part(1024, std::byte{9});
    const Loaded loaded(whole, 1024, part);
    std::vector<std::byte> into(2048);
    std::vector<Extent> bad;
    ASSERT_TRUE(loaded.read(2048, into, &bad).has_value());
    ASSERT_EQ(bad.size(), 1U);
    EXPECT_EQ(bad.front(), (Extent{3072, 512}));
}

}  // namespace
}  // namespace dredger
