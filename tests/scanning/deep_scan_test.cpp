// The deep scan: what content adds to records, what it finds without them, and that it goes on where it stopped.
#include <gmock/gmock.h>
#include <map>
#include <nlohmann/json.hpp>

#include "media/content.h"
#include "media/file_medium.h"
#include "media/medium_sum.h"
#include "scanning/scan.h"
#include "scanning/scan_fixture.h"
#include "support/support.h"

namespace dredger {
namespace {

using testing::Contains;
using testing::HasSubstr;

class DeepScanTest : public test::ScanFixture {
  protected:
    ScanRequest deep(const std::string& fixture) {
        ScanRequest request;
        request.source = test::unpack_to(fixture, folder_.path());
        request.deep = true;
        return request;
    }
    std::vector<Candidate> candidates(const std::string& catalog = "a.dredge") {
        const auto opened = Catalog::open(folder_ / catalog).value();
        std::vector<Candidate> all;
        EXPECT_TRUE(opened.each({}, Order{Order::By::path}, true, [&](const Candidate& c) {
            all.push_back(c);
            return true;
        }));
        return all;
    }
};

// Its lines begin anew in each of its pieces.
TEST_F(DeepScanTest, ALaterPieceOfATextIsNoFile) {
    ASSERT_TRUE(run(deep("f2fs-station")));
    std::size_t pieces = 0;
    for (const Candidate& c : candidates()) {
        EXPECT_NE(c.record.origin, Origin::signature) << c.record.path();
        if (c.record.name.ends_with("Kolonie.csv")) pieces = c.layout.extents.size();
    }
    EXPECT_GE(pieces, 2U);
}

TEST_F(DeepScanTest, FindsWhatNoRecordTellsOf) {
    ASSERT_TRUE(run(deep("ringing-station-drive")));
    std::map<std::uint64_t, Candidate> found;
    for (Candidate& c : candidates())
        if (c.record.origin == Origin::signature) found[c.layout.extents.front().offset] = std::move(c);
    const auto truth = test::truth_of("ringing-station-drive");
    unsigned expected = 0;
    for (const auto& file : truth["files"]) {
        if (file["state"] != "lost") continue;
        ++expected;
        const auto at = found.find(file["extents"][0][0].get<std::uint64_t>());
        ASSERT_NE(at, found.end()) << file["path"];
        std::vector<Extent> pieces;
        for (const auto& piece : file["extents"]) pieces.push_back({piece[0], piece[1]});
        MediumLayout laid;
        laid.lay(pieces);
        EXPECT_EQ(at->second.layout.extents, laid.extents) << file["path"];
        EXPECT_EQ(at->second.record.size, file["size"].get<std::uint64_t>());
        const bool is_proven = at->second.proof == Proof::checksums;
        EXPECT_EQ(at->second.prospect.band, is_proven ? Band::sound : Band::patchy) << file["path"];
        EXPECT_EQ(at->second.record.state, State::lost);
    }
    EXPECT_EQ(found.size(), expected);
}

// Without a journal nothing but the lists of their blocks tells where these lie.
TEST_F(DeepScanTest, FollowsTheListsOfBlocksThatDeletionLeft) {
    ASSERT_TRUE(run(deep("ext2-lists")));
    const MediumPtr medium = FileMedium::open(folder_ / "ext2-lists.img").value();
    std::map<std::string, Band> sums;
    for (const Candidate& c : candidates()) {
        if (c.record.origin != Origin::signature) continue;
        const auto content = open_content(medium, c.layout, c.record.size);
        sums[sha256_of(*content, content->size()).value()] = c.prospect.band;
    }
    const auto truth = test::truth_of("ext2-lists");
    for (const auto& file : truth["files"]) {
        if (file["state"] == "live") continue;
        const auto found = sums.find(file["sha256"]);
        ASSERT_NE(found, sums.end()) << file["path"];
        EXPECT_EQ(found->second, Band::sound) << file["path"];
    }
}

TEST_F(DeepScanTest, ListsNoFileTwice) {
    for (const char* fixture : {"ringing-station-drive", "ntfs-office", "exfat-worn", "fat16-card", "ntfs-worn"}) {
        const std::string catalog = std::string(fixture) + ".dredge";
        ASSERT_TRUE(run(deep(fixture), catalog));
        std::set<std::uint64_t> starts;
        const auto all = candidates(catalog);
        for (const Candidate& c : all)
            if (c.record.origin != Origin::signature && !c.layout.empty())
                starts.insert(c.layout.extents.front().offset);
        for (const Candidate& c : all) {
            if (c.record.origin == Origin::signature) {
                EXPECT_TRUE(starts.insert(c.layout.extents.front().offset).second) << c.record.name;
            }
        }
    }
}

TEST_F(DeepScanTest, ARecordGainsTheCheckOfItsContent) {
    ASSERT_TRUE(run(deep("ringing-station-drive")));
    std::map<Check, unsigned> checks;
    for (const Candidate& c : candidates())
        if (c.format == "jpeg" && c.record.state == State::deleted) ++checks[c.prospect.check];
    EXPECT_GT(checks[Check::verified], 0U);
}

TEST_F(DeepScanTest, NothingThatIsOverwrittenIsCalledSound) {
    for (const char* fixture : {"ringing-station-drive", "ntfs-worn", "exfat-worn", "fat16-card"}) {
        const std::string catalog = std::string(fixture) + ".dredge";
        ASSERT_TRUE(run(deep(fixture), catalog));
        std::set<std::pair<std::uint64_t, std::uint64_t>> gone;  // place and size
        const auto truth = test::truth_of(fixture);
        for (const auto& file : truth["files"])
            if (!file["directory"] && file["state"] != "live" && file["intact_bytes"] < file["size"] &&
                !file["extents"].is_null() && !file["extents"].empty() && file["extents"][0][0].is_number() &&
                !file.contains("stored_intact"))
                gone.emplace(file["extents"][0][0], file["size"]);
        for (const Candidate& c : candidates(catalog)) {
            if (c.layout.empty() || c.record.is_folder) continue;
            const bool is_gone = gone.contains({c.layout.extents.front().offset, c.record.size});
            EXPECT_FALSE(is_gone && c.prospect.band == Band::sound) << fixture << " " << c.record.path();
        }
    }
}

TEST_F(DeepScanTest, IsNotRepeatedAndGoesDeeperAfterAQuickScan) {
    ScanRequest request = deep("ringing-station-drive");
    request.deep = false;
    ASSERT_TRUE(run(request));
    const std::size_t quick = candidates().size();
    request.deep = true;
    const auto second = run(request);
    ASSERT_TRUE(second);
    EXPECT_TRUE(second->volumes[0].was_done_before);
    EXPECT_FALSE(second->surfaces[0].was_done_before);
    EXPECT_EQ(candidates().size(), quick + 8);
    const auto third = run(request);
    ASSERT_TRUE(third);
    for (const SurfaceReport& surface : third->surfaces) EXPECT_TRUE(surface.was_done_before);
    EXPECT_EQ(candidates().size(), quick + 8);
}

TEST_F(DeepScanTest, OtherWishesSearchAgain) {
    ScanRequest request = deep("ringing-station-drive");
    request.formats = {"mp4"};
    const auto count = [&] {
        unsigned finds = 0;
        for (const Candidate& c : candidates()) finds += c.record.origin == Origin::signature ? 1 : 0;
        return finds;
    };
    ASSERT_TRUE(run(request));
    EXPECT_EQ(count(), 1U);
    request.formats = {};
    ASSERT_TRUE(run(request));
    EXPECT_EQ(count(), 8U);
}

// Every part of the medium that is to be searched stands in the catalog before the first one is.
TEST_F(DeepScanTest, AllThatIsToBeDoneIsWrittenDown) {
    ScanRequest request = deep("ringing-station-drive");
    request.until = usual_selection();
    const auto report = run(request);
    ASSERT_TRUE(report);
    ASSERT_TRUE(report->is_over);
    const auto catalog = Catalog::open(folder_ / "a.dredge").value();
    unsigned planned = 0, left = 0;
    const auto volumes = catalog.volumes().value();
    for (const ScannedVolume& volume : volumes) {
        const auto sweep = *catalog.sweep_of(volume.id);
        if (!sweep) continue;
        ++planned;
        left += sweep->done ? 0 : 1;
        std::uint64_t ground = 0;
        const auto extents = catalog.ground_of(volume.id).value();
        for (const Extent& extent : extents) ground += extent.length;
        EXPECT_EQ(sweep->total, ground);
    }
    EXPECT_EQ(planned, 5U) << "the three volumes, and what lies before and behind them";
    EXPECT_EQ(left, planned);
}

TEST_F(DeepScanTest, AnotherStateInTheCatalogIsToldOf) {
    const ScanRequest request = deep("ringing-station-drive");
    ASSERT_TRUE(run(request));
    {
        auto catalog = Catalog::open_for_scan(folder_ / "a.dredge").value();
        Sweep sweep = **catalog.sweep_of(catalog.volumes()->front().id);
        sweep.done = false;
        sweep.state = R"({"dropped": "many", "given_up": 0, "taken": [], "doubtful": []})";
        ASSERT_TRUE(catalog.save_sweep(sweep));
    }
    const auto again = run(request);
    ASSERT_FALSE(again);
    EXPECT_EQ(again.error().kind, ErrorKind::not_understood);
    EXPECT_THAT(again.error().line(), HasSubstr("scan again into a new catalog"));
}

TEST_F(DeepScanTest, StopsWhenWhatIsWantedHasTurnedUp) {
    ScanRequest request = deep("ringing-station-drive");
    request.until = usual_selection();
    request.until->names = {"NEST*.JPG"};
    const auto report = run(request);
    ASSERT_TRUE(report);
    EXPECT_TRUE(report->is_over);
    EXPECT_FALSE(report->interrupted);
    request.until.reset();
    ASSERT_TRUE(run(request));
    EXPECT_EQ(candidates().size(), 73U);
}

TEST_F(DeepScanTest, AFreeClusterThatLiveFilesHoldMakesItSearchEverything) {
    // The allocation bitmap, which begins the cluster heap, is wiped.
    ScanRequest request = deep("exfat-card");
    auto image = test::read_text(request.source);
    const std::size_t boot = image.find("EXFAT   ") - 3;
    const auto u32 = [&](std::size_t at) { return ByteView(std::as_bytes(std::span(image))).u32le(at).value(); };
    const std::size_t heap = boot + (std::size_t{u32(boot + 88)} << image[boot + 108]);
    std::fill_n(image.begin() + static_cast<std::ptrdiff_t>(heap), u32(boot + 92) / 8, '\0');
    test::write_text(request.source, image);
    const auto report = run(request);
    ASSERT_TRUE(report) << report.error().line();
    EXPECT_THAT(listener_.warnings, Contains(HasSubstr("all of it is searched")));
}

TEST_F(DeepScanTest, VerifyingChecksAsMuchAsADeepScanOfTheRecords) {
    ScanRequest request = deep("ringing-station-drive");
    ASSERT_TRUE(run(request, "deep.dredge"));
    request.deep = false;
    request.verify = true;
    const auto report = run(request, "verified.dredge");
    ASSERT_TRUE(report);
    EXPECT_GT(report->surfaces.front().checked, 0U);
    std::map<std::string, Candidate> by_path;
    for (Candidate& c : candidates("verified.dredge")) {
        EXPECT_NE(c.record.origin, Origin::signature) << "the surface is not searched";
        by_path[c.record.path()] = std::move(c);
    }
    unsigned verified = 0;
    for (const Candidate& c : candidates("deep.dredge")) {
        const auto same = by_path.find(c.record.path());
        if (same == by_path.end() || c.prospect.check != Check::verified) continue;
        ++verified;
        EXPECT_EQ(same->second.prospect.check, Check::verified) << c.record.path();
    }
    EXPECT_GT(verified, 10U);

    const auto again = run(request, "verified.dredge");
    ASSERT_TRUE(again);
    for (const SurfaceReport& surface : again->surfaces) EXPECT_EQ(surface.checked, 0U);
    request.deep = true;
    ASSERT_TRUE(run(request, "verified.dredge"));
    EXPECT_EQ(candidates("verified.dredge").size(), candidates("deep.dredge").size());
}

}  // namespace
}  // namespace dredger
