// Ten thousand damaged copies of real ext media.
#include <gtest/gtest.h>

#include "base/bytes.h"
#include "support/walked.h"

namespace dredger {
namespace {

using namespace std::string_view_literals;

// Superblock, descriptors, everything that looks like a journal's header, a directory, an extent node or an inode.
std::vector<std::uint64_t> tender_places(const std::vector<std::byte>& image) {
    test::TenderPlaces places(image.size());
    const ByteView view(image);
    places.add(1024, 0x180, 4);
    places.add(2048, 256, 4);
    for (std::size_t at = 0; at + 1024 <= image.size(); at += 256) {
        if (at % 1024 == 0 && view.has(at, "\xC0\x3B\x39\x98"sv)) places.add(at, 160, 2);
        if (at % 1024 == 0 && view.has(at + 8, ".\0\0\0"sv)) places.add(at, 300);
        if (view.has(at + 40, "\x0A\xF3"sv) || view.has(at, "\x0A\xF3"sv)) places.add(at, 128);
    }
    return places.all();
}

class ExtDamage : public testing::TestWithParam<test::Damage> {};

TEST_P(ExtDamage, AThousandCopies) { test::scan_a_thousand(GetParam(), tender_places); }

INSTANTIATE_TEST_SUITE_P(Media, ExtDamage,
                         testing::Values(test::Damage("ext4-home", 1U), test::Damage("ext4-home", 2U),
                                         test::Damage("ext4-home", 3U), test::Damage("ext4-home", 4U),
                                         test::Damage("ext4-worn", 1U), test::Damage("ext4-worn", 2U),
                                         test::Damage("ext3-office", 1U), test::Damage("ext3-office", 2U),
                                         test::Damage("ext3-office", 3U), test::Damage("ext2-office", 1U)),
                         test::NameOfTest());

}  // namespace
}  // namespace dredger
