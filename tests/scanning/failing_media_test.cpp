// Scans of media that can't be read here and there, or go away: nothing is kept that was not read.
#include <fmt/ranges.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "media/charted.h"
#include "media/opened.h"
#include "scanning/scan_fixture.h"
#include "support/failing.h"

namespace dredger {
namespace {

using test::FailingMedium;
using testing::HasSubstr;

class FailingMediaTest : public test::ScanFixture {
  protected:
    FailingMediaTest() { request_.deep = true; }

    Result<ScanReport> scan_of(const MediumPtr& medium, const std::string& catalog = "a.dredge") {
        OpenedMedium opened;
        opened.medium = medium;
        opened.path = "/dev/station";
        opened.form = "image";
        auto kept = Catalog::open_for_scan(folder_ / catalog);
        EXPECT_TRUE(kept);
        return scan(*kept, opened, request_, listener_);
    }

    // What the catalog says of every candidate, in the order of their paths; with the numbers of records.
    std::string content(const std::string& catalog = "a.dredge", bool with_numbers = false) {
        const auto opened = Catalog::open(folder_ / catalog);
        EXPECT_TRUE(opened);
        Selection all;
        all.states = {};
        std::multiset<std::string> lines;
        EXPECT_TRUE(opened->each(all, Order{Order::By::path}, true, [&](const Candidate& c) {
            std::string line = c.record.path() + " " + std::to_string(c.record.size);
            if (with_numbers && c.record.origin != Origin::signature) line += " #" + std::to_string(c.id);
            line += " " + std::to_string(c.prospect.value) + " " + std::string(word_for(c.prospect.check));
            for (const std::string& reason : c.prospect.reasons) line += "; " + reason;
            for (const Extent& e : c.layout.extents) line += fmt::format(" {}+{}", e.offset, e.length);
            lines.insert(line);
            return true;
        }));
        return fmt::format("{}", fmt::join(lines, "\n"));
    }

    Extent place_of(const std::string& name) {
        Selection of_that_name;
        of_that_name.names = {name};
        Extent place;
        EXPECT_TRUE(Catalog::open(folder_ / "whole.dredge")->each(of_that_name, {}, true, [&](const Candidate& c) {
            place = c.layout.extents.front();
            return false;
        }));
        return place;
    }

    ScanRequest request_;
    const std::vector<std::byte> image_ = test::unpacked("fat16-card");
};

TEST_F(FailingMediaTest, AMediumThatGoesAwayIsScannedToTheSameEndOnceItIsBack) {
    ASSERT_TRUE(scan_of(std::make_shared<FailingMedium>(image_), "whole.dredge"));
    const std::string whole = content("whole.dredge");
    unsigned gone = 0;
    for (unsigned reads = 1;; reads += 1 + reads / 4) {
        const std::string catalog = fmt::format("{}.dredge", reads);
        const auto loose = std::make_shared<FailingMedium>(image_);
        loose->vanish_after(reads);
        const auto broken = scan_of(loose, catalog);
        if (broken) {
            EXPECT_TRUE(content(catalog) == whole) << reads;
            break;
        }
        EXPECT_EQ(broken.error().kind, ErrorKind::unreadable);
        gone += broken.error().line().find("the medium has gone") != std::string::npos ? 1 : 0;
        EXPECT_TRUE(Catalog::open(folder_ / catalog)->bad_areas(1)->empty()) << reads;
        ASSERT_TRUE(scan_of(std::make_shared<FailingMedium>(image_), catalog));
        EXPECT_TRUE(content(catalog) == whole) << reads;
    }
    EXPECT_GE(gone, 8U);
}

TEST_F(FailingMediaTest, WhatFailedIsAskedForOnceMoreWhenThatIsWanted) {
    ASSERT_TRUE(scan_of(std::make_shared<FailingMedium>(image_), "whole.dredge"));
    const auto failing = std::make_shared<FailingMedium>(image_);
    const Extent photo = place_of("NEST0003.JPG");
    failing->break_area({photo.offset + 1024, 2048});
    const auto first = scan_of(failing);
    ASSERT_TRUE(first);
    EXPECT_GE(first->unreadable, 2048U);
    EXPECT_THAT(content(), HasSubstr("of it lie where the medium can't be read"));
    const std::string damaged = content("a.dredge", true);

    const auto mended = std::make_shared<FailingMedium>(image_);
    const auto second = scan_of(mended);
    EXPECT_EQ(second->unreadable, first->unreadable);
    EXPECT_EQ(content("a.dredge", true), damaged);
    EXPECT_EQ(mended->asked((photo.offset + 1024) / FailingMedium::kSector), 0U);

    request_.again = true;
    const auto closer = scan_of(failing);
    EXPECT_EQ(closer->answered_anew + closer->unreadable, first->unreadable) << "it is looked at more closely";
    EXPECT_THAT(closer->unreadable, testing::AllOf(testing::Ge(2048U), testing::Le(8192U)));
    const auto third = scan_of(mended);
    ASSERT_TRUE(third) << third.error().line();
    EXPECT_EQ(third->unreadable, 0U);
    EXPECT_EQ(third->answered_anew, closer->unreadable);
    EXPECT_EQ(content(), content("whole.dredge"));
    EXPECT_TRUE(scan_of(mended)->volumes.front().was_done_before);
}

TEST_F(FailingMediaTest, RecordsKeepTheirNumbersWhenMoreCanBeRead) {
    const auto whole = std::make_shared<FailingMedium>(image_);
    request_.deep = false;
    ASSERT_TRUE(scan_of(whole, "whole.dredge"));
    const auto failing = std::make_shared<FailingMedium>(image_);
    failing->break_area({place_of("NEST0003.JPG").offset, 512});
    ASSERT_TRUE(scan_of(failing));
    const auto numbers = [&](const std::string& catalog) {
        std::map<std::string, std::int64_t> list;
        Selection all;
        all.states = {};
        EXPECT_TRUE(Catalog::open(folder_ / catalog)->each(all, {}, false, [&](const Candidate& c) {
            list[c.record.path() + " " + std::to_string(c.record.identity.number)] = c.id;
            return true;
        }));
        return list;
    };
    const auto before = numbers("a.dredge");
    request_.again = true;
    ASSERT_TRUE(scan_of(whole));
    EXPECT_EQ(numbers("a.dredge"), before);
}

TEST_F(FailingMediaTest, ACopyThatWasCompletedIsReadWhereItWasNot) {
    const auto whole = std::make_shared<test::MemoryMedium>(image_);
    ASSERT_TRUE(scan_of(whole, "whole.dredge"));
    const Extent photo = place_of("NEST0003.JPG");
    const std::vector<Extent> missing = {{photo.offset, 8192}, {0x80000, 65536}};
    EXPECT_EQ(scan_of(std::make_shared<Charted>(whole, missing))->unreadable, 8192U + 65536U);
    EXPECT_NE(content(), content("whole.dredge"));
    const auto half = scan_of(std::make_shared<Charted>(whole, std::vector<Extent>{missing[1]}));
    EXPECT_EQ(half->answered_anew, 8192U);
    EXPECT_EQ(half->unreadable, 65536U);
    EXPECT_EQ(scan_of(whole)->answered_anew, 65536U);
    EXPECT_EQ(content(), content("whole.dredge"));
}

TEST_F(FailingMediaTest, NothingThatCanBeReadMeansThatItHasGone) {
    const auto dead = std::make_shared<FailingMedium>(image_);
    ASSERT_TRUE(scan_of(dead, "whole.dredge"));
    dead->break_area({0, dead->size()});
    const auto broken = scan_of(dead);
    ASSERT_FALSE(broken);
    EXPECT_EQ(broken.error().kind, ErrorKind::unreadable);
}

}  // namespace
}  // namespace dredger
