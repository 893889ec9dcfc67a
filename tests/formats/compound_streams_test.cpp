// Foreign sectors within older office documents and messages: compound files have no checksums, so they show by what
// must stand in the streams.
#include <gtest/gtest.h>

#include "formats/format.h"
#include "support/support.h"
#include "two_pieces.h"

namespace dredger {
namespace {

constexpr std::size_t kSector = 512;

Measured measured(std::vector<std::byte> bytes) {
    const test::MemoryMedium medium(std::move(bytes));
    Budget budget;
    Reader reader(medium, budget);
    return measure(*format_named("ole2"), reader);
}

std::vector<std::byte> sample(const std::string& name) {
    static const auto all = test::samples();
    return all.at(name);
}

class Document : public testing::TestWithParam<std::pair<const char*, double>> {
  protected:
    std::vector<std::byte> bytes() const { return sample(GetParam().first); }
    // With `length` bytes from `at` on that are another file's.
    std::vector<std::byte> with_foreign(std::size_t at, const std::vector<std::byte>& foreign) const {
        auto bytes = this->bytes();
        std::copy_n(foreign.begin(), std::min(foreign.size(), bytes.size() - at),
                    bytes.begin() + static_cast<std::ptrdiff_t>(at));
        return bytes;
    }
};

TEST_P(Document, IsWholeAsItsProgramWroteIt) {
    const Measured found = measured(bytes());
    EXPECT_TRUE(found.is_whole());
    EXPECT_EQ(found.length, bytes().size());
}

// In most places a sector of anything else is seen, and soon.
TEST_P(Document, ShowsASectorOfAnotherFile) {
    std::vector<std::byte> zeros(kSector), others = test::noise(kSector, 4);
    const std::string words = "Colony 4, ledge B: 37 nests, 12 with two chicks.\r\n";
    std::vector<std::byte> text;
    while (text.size() < kSector) {
        const auto line = test::bytes_of(words);
        text.insert(text.end(), line.begin(), line.end());
    }
    text.resize(kSector);
    std::size_t shown = 0, tried = 0;
    for (const auto& foreign : {others, zeros, text})
        for (std::size_t at = kSector; at + kSector < bytes().size(); at += kSector) {
            const auto changed = with_foreign(at, foreign);
            // Zeros may stand where zeros were.
            if (changed == bytes()) continue;
            ++tried;
            const Measured found = measured(changed);
            if (!found.is_file() || found.is_whole()) continue;
            ++shown;
            // A record or two of it may make sense.
            EXPECT_LE(found.sure, at + 16 * kSector) << at;
        }
    EXPECT_GE(static_cast<double>(shown), GetParam().second * static_cast<double>(tried)) << shown << " of " << tried;
}

TEST_P(Document, IsPutTogetherFromTwoPieces) {
    const std::size_t split = bytes().size() / 3 / kSector * kSector;
    test::expect_fitted(*format_named("ole2"), bytes(), split, 3 * kSector);
}

// The header tells where the directory should be, and it shows where it is.
TEST(CompoundFile, TellsHowManyForeignBytesLieInFrontOfItsDirectory) {
    const auto document = sample("doc-office.doc");
    const auto middle = document.begin() + 3584;
    for (const std::size_t foreign : {512U, 1536U, 40960U}) {
        std::vector<std::byte> torn(document.begin(), middle);
        const auto others = test::noise(foreign, 8);
        torn.insert(torn.end(), others.begin(), others.end());
        torn.insert(torn.end(), middle, document.end());
        const test::MemoryMedium medium(std::move(torn));
        Budget budget;
        Reader reader(medium, budget);
        const auto& format = *format_named("ole2");
        const Measured found = measure(format, reader);
        EXPECT_EQ(found.end, Measured::End::broken);
        EXPECT_EQ(format.gaps(reader, found), std::vector<std::uint64_t>{foreign});
    }
    const test::MemoryMedium whole(document);
    Budget budget;
    Reader reader(whole, budget);
    EXPECT_TRUE(format_named("ole2")->gaps(reader, {}).empty());
}

INSTANTIATE_TEST_SUITE_P(Of, Document,
                         testing::Values(std::pair("doc-office.doc", 0.6), std::pair("xls-office.xls", 0.8)),
                         [](const auto& document) { return std::string(document.param.first).substr(0, 3); });

}  // namespace
}  // namespace dredger
