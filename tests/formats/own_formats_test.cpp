#include "formats/own_formats.h"

#include <gmock/gmock.h>

#include "support/support.h"

namespace dredger {
namespace {

using testing::HasSubstr;

constexpr const char* kExample = R"(
[[format]]
name = "nestlog"
kind = "document"
extension = "nlg"
signature = "NESTLOG1"
end-hex = "0d 0a 2e"
most-bytes = 65536
)";

Result<OwnFormats> read(const std::string& text) {
    const test::TempFolder folder;
    test::write_text(folder / "own.toml", text);
    return OwnFormats::read(folder / "own.toml");
}

TEST(OwnFormats, EndAtTheirMark) {
    const auto own = read(kExample);
    ASSERT_TRUE(own) << own.error().line();
    ASSERT_EQ(own->formats().size(), 1U);
    const Format& format = own->formats().front();
    EXPECT_EQ(format.name, "nestlog");
    EXPECT_EQ(format.kind, Kind::document);
    EXPECT_EQ(format.extensions.front(), "nlg");
    const auto content = test::bytes_of("NESTLOG1 two chicks\r\n.and then something else");
    EXPECT_EQ(bid_of(format, ByteView(content)), 64U);
    const test::MemoryMedium medium(content);
    Budget budget;
    Reader reader(medium, budget);
    const Measured measured = measure(format, reader);
    EXPECT_TRUE(measured.is_whole());
    EXPECT_EQ(measured.length, 22U);
}

TEST(OwnFormats, WithoutAMarkTheyEndAtTheirLimit) {
    const auto own = read("[[format]]\nname='trace'\nsignature-hex='54 52 43 01'\nmost-bytes=1000\n");
    ASSERT_TRUE(own);
    const test::MemoryMedium medium(std::vector<std::byte>(5000));
    Budget budget;
    Reader reader(medium, budget);
    const Measured measured = own->formats().front().measure(reader);
    EXPECT_EQ(measured.end, Measured::End::open);
    EXPECT_EQ(measured.length, 1000U);
}

TEST(OwnFormats, WhatIsWrongIsSaidWithItsPlace) {
    EXPECT_THAT(read("[[format]\n").error().line(), HasSubstr("line 1"));
    EXPECT_THAT(read("").error().line(), HasSubstr("[[format]]"));
    EXPECT_THAT(read("[[format]]\nname='jpeg'\nsignature='xyz'\nmost-bytes=9\n").error().line(),
                HasSubstr("known already"));
    EXPECT_THAT(read("[[format]]\nname='a'\nsignature='xy'\nmost-bytes=9\n").error().line(),
                HasSubstr("3 to 64 bytes"));
    EXPECT_THAT(read("[[format]]\nname='a'\nsignature='xyz'\n").error().line(), HasSubstr("most-bytes"));
    EXPECT_THAT(read("[[format]]\nname='a'\nsignature-hex='4e 4'\nmost-bytes=9\n").error().line(),
                HasSubstr("signature"));
    EXPECT_THAT(read("[[format]]\nname='a'\nkind='birds'\nsignature='xyz'\nmost-bytes=9\n").error().line(),
                HasSubstr("no kind"));
    EXPECT_THAT(OwnFormats::read("/nowhere/own.toml").error().line(), HasSubstr("no such file"));
}

}  // namespace
}  // namespace dredger
