// The manifest and the sums: what a run leaves for the next one.
#include "restoring/manifest.h"

#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::TempFolder;

ManifestRow row(std::int64_t id, const std::string& original, const std::string& restored, const std::string& sum) {
    ManifestRow r;
    r.catalog = "card.dredge";
    r.id = id;
    r.state = "deleted";
    r.original_path = original;
    r.restored_path = restored;
    r.size = r.restored_bytes = 10;
    r.outcome = "whole";
    r.facts = "mode -rw-r--r--; owner 1000:1000";
    r.set_sum(sum);
    return r;
}
const std::string kSha(64, 'a'), kOtherSha(64, 'b'), kQuick(32, 'c');

class ManifestTest : public testing::Test {
  protected:
    void write(const std::vector<ManifestRow>& rows, bool comes_to_its_end) {
        auto manifest = Manifest::open(folder_.path());
        ASSERT_TRUE(manifest);
        for (const ManifestRow& r : rows) ASSERT_TRUE(manifest->add(r));
        if (!comes_to_its_end) return;
        ASSERT_TRUE(manifest->finish(manifest->final_form()));
    }
    Manifest read() const { return Manifest::read(folder_.path()).value(); }
    std::string text(const char* name) const { return test::read_text(folder_ / name); }

    TempFolder folder_;
};

TEST_F(ManifestTest, OneFileHasOneSum) {
    // The first was taken away since, and another one was given its place.
    write({row(1, "b.txt", "b.txt", kSha), row(2, "a.txt", "a.txt", kSha)}, true);
    write({row(3, "old/b.txt", "b.txt", kOtherSha)}, true);
    EXPECT_EQ(text("SHA256SUMS"), kSha + "  a.txt\n" + kOtherSha + "  b.txt\n");
}

TEST_F(ManifestTest, RowsComeBackAsTheyWere) {
    const std::vector<ManifestRow> rows = {row(1, "logs/a; b, \"c\".txt", "logs/a; b, \"c\".txt", kSha),
                                           row(2, "two\r\nlines ", "two%0D%0Alines%20", kOtherSha),
                                           row(3, "quick.jpg", "quick.jpg", kQuick), row(4, "folder", "folder", "")};
    write(rows, true);
    const Manifest manifest = read();
    ASSERT_EQ(manifest.rows().size(), rows.size());
    for (const ManifestRow& expected : rows) {
        const ManifestRow* found = manifest.find("card.dredge", expected.id);
        ASSERT_NE(found, nullptr);
        EXPECT_EQ(found->original_path, expected.original_path);
        EXPECT_EQ(found->restored_path, expected.restored_path);
        EXPECT_EQ(found->sum(), expected.sum());
        EXPECT_EQ(found->facts, expected.facts);
        EXPECT_EQ(manifest.is_confirmed(*found), !expected.sum().empty());
    }
    EXPECT_EQ(manifest.find("other.dredge", 1), nullptr);
    EXPECT_EQ(text("XXH128SUMS"), kQuick + "  quick.jpg\n");
    EXPECT_EQ(text("SHA256SUMS"), kSha + "  logs/a; b, \"c\".txt\n" + kOtherSha + "  two%0D%0Alines%20\n");
}

TEST_F(ManifestTest, WhatAKilledRunLeftIsKnownAndNotConfirmed) {
    write({row(1, "a.jpg", "a.jpg", kSha)}, true);
    write({row(2, "b.jpg", "b.jpg", kOtherSha)}, false);
    // It was killed within a row.
    test::write_text(folder_ / "manifest.csv", text("manifest.csv") + "card.dredge,3,deleted,\"c");
    const Manifest manifest = read();
    ASSERT_EQ(manifest.rows().size(), 2U);
    EXPECT_TRUE(manifest.is_confirmed(*manifest.find("card.dredge", 1)));
    EXPECT_FALSE(manifest.is_confirmed(*manifest.find("card.dredge", 2)));
    // The next one begins behind whole rows, and brings both files to their final form.
    write({row(3, "c.jpg", "c.jpg", kSha)}, true);
    EXPECT_EQ(read().rows().size(), 3U);
    EXPECT_TRUE(read().is_confirmed(*read().find("card.dredge", 2)));
}

TEST_F(ManifestTest, ALaterRowTakesThePlaceOfAnEarlierOne) {
    write({row(1, "a.jpg", "a.jpg", kSha), row(1, "a.jpg", "a (2).jpg", kOtherSha)}, true);
    ASSERT_EQ(read().rows().size(), 1U);
    EXPECT_EQ(read().find("card.dredge", 1)->restored_path, "a (2).jpg");
    EXPECT_EQ(text("SHA256SUMS"), kOtherSha + "  a (2).jpg\n");
    // A file that gave its place to another one has no sum any more.
    write({row(1, "a.jpg", "", "")}, true);
    EXPECT_EQ(text("SHA256SUMS"), "");
}

TEST_F(ManifestTest, SumsOfBothKindsStandSideBySide) {
    write({row(1, "a.jpg", "a.jpg", kSha)}, true);
    EXPECT_FALSE(fs::exists(folder_ / "XXH128SUMS"));
    write({row(2, "b.jpg", "b.jpg", kQuick)}, true);
    EXPECT_TRUE(read().is_confirmed(*read().find("card.dredge", 1)));
    EXPECT_TRUE(read().is_confirmed(*read().find("card.dredge", 2)));
    write({row(2, "b.jpg", "b.jpg", kOtherSha)}, true);
    EXPECT_EQ(text("XXH128SUMS"), "");
}

TEST_F(ManifestTest, AForeignFileIsNotTakenForOne) {
    test::write_text(folder_ / "manifest.csv", "\"never closed\r\n");
    const auto manifest = Manifest::open(folder_.path());
    ASSERT_FALSE(manifest);
    EXPECT_EQ(manifest.error().kind, ErrorKind::usage);
    EXPECT_EQ(text("manifest.csv"), "\"never closed\r\n");
}

}  // namespace
}  // namespace dredger
