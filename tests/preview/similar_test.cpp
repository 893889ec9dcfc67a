// What is like a given find of the demo medium, and that pictures are looked at only once.
#include "preview/similar.h"

#include <gmock/gmock.h>

#include "catalog/attaching.h"
#include "scanning/scan_fixture.h"

namespace dredger {
namespace {

class SimilarTest : public test::ScanFixture {
  protected:
    void SetUp() override {
        ScanRequest request;
        request.source = test::unpack_to("ringing-station-drive", folder_.path());
        request.verify = true;
        ASSERT_TRUE(run(request));
        catalog_.emplace(Catalog::open(folder_ / "a.dredge").value());
        std::set<std::int64_t> volumes;
        const auto scanned = catalog_->volumes().value();
        for (const ScannedVolume& volume : scanned) volumes.insert(volume.id);
        media_ = attach(*catalog_, volumes, {}).value().media;
    }
    Candidate named(const std::string& name) {
        Selection selection;
        selection.names = {name};
        std::optional<Candidate> found;
        EXPECT_TRUE(catalog_->each(selection, {}, true, [&](const Candidate& c) {
            found = c;
            return false;
        }));
        return found.value();
    }
    std::vector<Similar> like(const std::string& name) {
        return similar_to(*catalog_, media_, named(name), {}, listener_).value();
    }

    std::optional<Catalog> catalog_;
    std::map<std::int64_t, MediumPtr> media_;
};

TEST_F(SimilarTest, PicturesThatLookAlikeComeTheLikestFirst) {
    const auto like_it = like("ledge 01*");
    ASSERT_GE(like_it.size(), 2U);
    unsigned rank = 0;
    bool still_alike = true;
    for (const Similar& one : like_it) {
        EXPECT_GE(one.rank, rank);
        rank = one.rank;
        EXPECT_THAT(catalog_->find(one.candidate)->value().record.name, testing::HasSubstr("ledge"));
        still_alike = still_alike && one.why.find("looks alike") != std::string::npos;
        EXPECT_TRUE(still_alike || one.why == "of the same series") << one.why;
    }
}

// Each of a burst is like the next; the last has little of the first.
TEST_F(SimilarTest, AllOfASeriesAreFoundFromEachOfThem) {
    std::size_t ledges = 0;
    Selection all;
    all.names = {"ledge ?? overview*"};
    EXPECT_TRUE(catalog_->each(all, {}, false, [&](const Candidate&) { return ++ledges > 0; }));
    ASSERT_EQ(ledges, 12U);
    for (const char* name : {"ledge 01*", "ledge 06*", "ledge 12*"}) EXPECT_EQ(like(name).size(), ledges - 1) << name;
}

TEST_F(SimilarTest, WhatPicturesLookLikeIsKept) {
    const std::size_t before = like("ledge 01*").size();
    EXPECT_TRUE(named("ledge 02*").likeness.has_value());
    media_.clear();  // nothing can be looked at any more
    EXPECT_EQ(like("ledge 01*").size(), before);
}

TEST_F(SimilarTest, ANameOrAFileWithoutLikenessIsLikeNothing) { EXPECT_TRUE(like("Survey plan.docx").empty()); }

TEST_F(SimilarTest, OnlyTheSelectedAreAnswered) {
    Selection among;
    among.names = {"ledge 02*"};
    const auto found = similar_to(*catalog_, media_, named("ledge 01*"), among, listener_);
    ASSERT_TRUE(found);
    ASSERT_EQ(found->size(), 1U);
    EXPECT_EQ(found->front().candidate, named("ledge 02*").id);
}

}  // namespace
}  // namespace dredger
