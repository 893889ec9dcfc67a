#include "scanning/scan.h"

#include <fmt/format.h>
#include <fstream>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "base/bytes.h"
#include "scanning/narrowing.h"
#include "scanning/scan_fixture.h"
#include "support/support.h"

namespace dredger {
namespace {

using testing::Contains;
using testing::HasSubstr;

class ScanTest : public test::ScanFixture {
  protected:
    // Everything that the catalog says of every candidate, in order.
    std::string content(const std::string& catalog = "a.dredge") {
        const auto opened = Catalog::open(folder_ / catalog);
        EXPECT_TRUE(opened);
        Selection all;
        all.states = {};
        std::string text;
        EXPECT_TRUE(opened->each(all, Order{Order::By::path}, true, [&](const Candidate& c) {
            text += c.record.path() + " " + std::to_string(c.record.size) + " " + std::to_string(c.prospect.value);
            for (const std::string& reason : c.prospect.reasons) text += "; " + reason;
            for (const Extent& e : c.layout.extents)
                text += " " + std::to_string(e.offset) + "+" + std::to_string(e.length);
            text += "\n";
            return true;
        }));
        return text;
    }
    ScanRequest request_for(const std::string& fixture) {
        return {test::unpack_to(fixture, folder_.path()), {}, {}, {}, {}, {}};
    }
};

TEST_F(ScanTest, FindsWhatWasDeletedAndJudgesIt) {
    const auto report = run(request_for("ringing-station-drive"));
    ASSERT_TRUE(report) << report.error().line();
    ASSERT_EQ(report->volumes.size(), 3U);
    EXPECT_EQ(report->volumes[0].deleted, 33U);
    EXPECT_EQ(report->volumes[0].live, 22U);
    EXPECT_EQ(report->volumes[1].trashed, 10U);
    EXPECT_EQ(report->volumes[1].bins.files, 9U);
    EXPECT_EQ(report->volumes[1].bins.folders, 1U);
    const auto catalog = Catalog::open(folder_ / "a.dredge").value();
    const auto truth = test::truth_of("ringing-station-drive");
    std::map<std::string, nlohmann::json> files;
    for (const auto& file : truth["files"]) files[file["path"]] = file;
    std::size_t judged = 0;
    ASSERT_TRUE(catalog.each({}, Order{Order::By::path}, true, [&](const Candidate& c) {
        const auto file = files.find(c.record.path());
        if (c.record.is_folder || file == files.end()) return true;
        ++judged;
        const bool whole =
            file->second["intact_bytes"] == file->second["size"] || file->second.value("stored_intact", false);
        EXPECT_EQ(c.prospect.band == Band::sound, whole) << c.record.path();
        if (!whole) {
            EXPECT_THAT(c.prospect.reasons, Contains(HasSubstr(" is overwritten by "))) << c.record.path();
        }
        return true;
    }));
    EXPECT_EQ(judged, 41U) << "the names of those in bins are other ones";
}

TEST_F(ScanTest, ExtentsAreOnTheMedium) {
    ASSERT_TRUE(run(request_for("ringing-station-drive")));
    const auto catalog = Catalog::open(folder_ / "a.dredge").value();
    const auto truth = test::truth_of("ringing-station-drive");
    for (const auto& file : truth["files"]) {
        if (file["path"] != "DCIM/100NESTS/NEST0005.JPG") continue;
        ASSERT_TRUE(catalog.each({}, Order{Order::By::path}, true, [&](const Candidate& c) {
            if (c.record.name == "NEST0005.JPG") {
                EXPECT_EQ(c.layout.extents.at(0).offset, file["extents"][0][0].get<std::uint64_t>());
            }
            return true;
        }));
    }
}

TEST_F(ScanTest, TheSameMediumGivesTheSameCatalog) {
    const ScanRequest request = request_for("fat16-card");
    ASSERT_TRUE(run(request, "a.dredge"));
    ASSERT_TRUE(run(request, "b.dredge"));
    EXPECT_EQ(content("a.dredge"), content("b.dredge"));
}

TEST_F(ScanTest, ASecondRunRepeatsNothing) {
    const ScanRequest request = request_for("fat16-card");
    ASSERT_TRUE(run(request));
    const std::string before = content();
    const auto again = run(request);
    ASSERT_TRUE(again);
    EXPECT_TRUE(again->volumes[0].was_done_before);
    EXPECT_EQ(content(), before);
}

TEST_F(ScanTest, StoppedAnywhereItGoesOnToTheSameEnd) {
    const ScanRequest request = request_for("fat16-card");
    ASSERT_TRUE(run(request, "whole.dredge"));
    for (const int questions : {1, 2, 10, 40, 66, 80}) {
        const std::string name = "part" + std::to_string(questions) + ".dredge";
        listener_.stop = false;
        listener_.stop_after_questions = questions;
        const auto stopped = run(request, name);
        ASSERT_TRUE(stopped);
        EXPECT_TRUE(stopped->interrupted) << questions;
        listener_.stop = false;
        listener_.stop_after_questions = 0;
        const auto resumed = run(request, name);
        ASSERT_TRUE(resumed);
        EXPECT_FALSE(resumed->interrupted);
        EXPECT_EQ(content(name), content("whole.dredge")) << questions;
    }
}

TEST_F(ScanTest, AVolumeThatCanNotBeOpenedCostsOnlyItself) {
    ScanRequest request = request_for("ringing-station-drive");
    const auto truth = test::truth_of("ringing-station-drive");
    const auto office = truth["volumes"][1]["offset"].get<std::uint64_t>();
    // The file table's first record and its copy.
    std::fstream image(request.source, std::ios::in | std::ios::out | std::ios::binary);
    std::vector<char> boot(512);
    image.seekg(static_cast<std::streamoff>(office));
    image.read(boot.data(), 512);
    const ByteView view(std::as_bytes(std::span(boot)));
    for (const std::size_t field : {48U, 56U}) {
        image.seekp(static_cast<std::streamoff>(office + view.u64le(field).value() * 4096));
        image.write("lost", 4);
    }
    image.close();
    const auto report = run(request);
    ASSERT_TRUE(report) << report.error().line();
    EXPECT_EQ(report->volumes[0].deleted, 33U);
    EXPECT_EQ(report->volumes[1].filesystem, "");
    EXPECT_THAT(listener_.warnings,
                Contains(HasSubstr("volume 2: the first record of the file table and its copy are damaged")));
    request.volumes = {2};
    EXPECT_THAT(run(request, "b.dredge").error().line(), HasSubstr("are damaged"));
}

TEST_F(ScanTest, KeepsOnlyWhatIsWanted) {
    ScanRequest request = request_for("ringing-station-drive");
    request.folder = "gannet colony survey 2026";
    request.extensions = {"jpg"};
    ASSERT_TRUE(run(request));
    const auto catalog = Catalog::open(folder_ / "a.dredge").value();
    EXPECT_EQ(catalog.count({}).value(), 13);
    request.extensions = {};
    request.kinds = {Kind::document};
    ASSERT_TRUE(run(request, "b.dredge"));
    EXPECT_EQ(Catalog::open(folder_ / "b.dredge")->count({}).value(), 3);
}

// Everything in the same order of ids, but for what only the wider scan was asked for.
TEST_F(ScanTest, WidensWhatWasNarrowed) {
    const auto paths_by_id = [&](const char* name) {
        std::map<std::int64_t, std::string> paths;
        Selection all;
        all.states = {};
        EXPECT_TRUE(Catalog::open(folder_ / name)->each(all, Order{}, false, [&](const Candidate& c) {
            paths[c.id] = fmt::format("{} {} {}", c.record.path(), c.prospect.value, word_for(c.record.state));
            return true;
        }));
        return paths;
    };
    ScanRequest request = request_for("ringing-station-drive");
    request.extensions = {"jpg"};
    ASSERT_TRUE(run(request));
    const auto narrow = paths_by_id("a.dredge");
    request.extensions = {};
    request.snapshots = true;
    const auto widened = run(request);
    ASSERT_TRUE(widened) << widened.error().line();
    EXPECT_FALSE(widened->volumes.front().was_done_before);
    const auto wide = paths_by_id("a.dredge");
    ASSERT_TRUE(run(request, "b.dredge"));
    for (const auto& [id, path] : narrow) EXPECT_EQ(wide.at(id), path) << "keeps its number";
    const auto values = [](const std::map<std::int64_t, std::string>& paths) {
        std::multiset<std::string> all;
        for (const auto& [id, path] : paths) all.insert(path);
        return all;
    };
    EXPECT_EQ(values(wide), values(paths_by_id("b.dredge"))) << "as if it had never been narrow";
    EXPECT_GT(wide.size(), narrow.size());
    request.kinds = {Kind::picture};
    EXPECT_TRUE(run(request)->volumes.front().was_done_before) << "the catalog has more already";
}

// A deep scan finds out anew where content lies and how long it is: what it kept is known again all the same.
TEST_F(ScanTest, WidensWhatADeepScanKept) {
    const auto told = [&](const char* name) {
        Selection of_records;
        of_records.states = {};
        of_records.origins = {Origin::record, Origin::remnant};
        std::multiset<std::string> all;
        EXPECT_TRUE(Catalog::open(folder_ / name)->each(of_records, Order{}, false, [&](const Candidate& c) {
            all.insert(fmt::format("{} {} {} {}", c.record.path(), c.record.size, c.prospect.value,
                                   fmt::join(c.prospect.reasons, "; ")));
            return true;
        }));
        return all;
    };
    ScanRequest request = request_for("ringing-station-drive");
    request.deep = true;
    request.kinds = {Kind::picture};
    ASSERT_TRUE(run(request));
    const std::size_t narrow = told("a.dredge").size();
    request.kinds = {};
    ASSERT_TRUE(run(request));
    ASSERT_TRUE(run(request, "b.dredge"));
    EXPECT_GT(told("a.dredge").size(), narrow);
    EXPECT_EQ(told("a.dredge"), told("b.dredge")) << "nothing twice, nothing missing, the same names in the reasons";
}

TEST(Narrowing, KnowsWhichKeepsMore) {
    EXPECT_TRUE(keeps_all_of("{}", R"({"kind":["picture"]})"));
    EXPECT_FALSE(keeps_all_of(R"({"kind":["picture"]})", "{}"));
    EXPECT_TRUE(keeps_all_of(R"({"kind":["picture","video"]})", R"({"kind":["video"]})"));
    EXPECT_FALSE(keeps_all_of(R"({"kind":["video"]})", R"({"kind":["picture","video"]})"));
    EXPECT_TRUE(keeps_all_of(R"({"folder":"DCIM"})", R"({"ext":["jpg"],"folder":"dcim/100NESTS"})"));
    EXPECT_FALSE(keeps_all_of(R"({"folder":"DCIM"})", R"({"folder":"DCIMX"})"));
    EXPECT_FALSE(keeps_all_of(R"({"snapshots":false})", "{}"));
    EXPECT_FALSE(keeps_all_of("{}", R"({"code_page":437})"));
    EXPECT_FALSE(keeps_all_of("no JSON", "{}"));
}

TEST_F(ScanTest, TakesTheVolumesThatAreAskedFor) {
    ScanRequest request = request_for("mbr-chain");
    request.volumes = {2};
    const auto report = run(request);
    ASSERT_TRUE(report) << report.error().line();
    ASSERT_EQ(report->volumes.size(), 1U);
    EXPECT_EQ(report->volumes[0].label, "LOGICAL1");
    request.volumes = {};
    EXPECT_EQ(run(request)->volumes.size(), 3U);
    request.volumes = {9};
    EXPECT_THAT(run(request).error().line(), HasSubstr("no volume 9"));
}

TEST_F(ScanTest, SourcesThatAreNoneAreClearErrors) {
    test::write_text(folder_ / "noise.img", std::string(100, 'r'));
    EXPECT_THAT(run({folder_ / "noise.img", {}, {}, {}, {}, {}}).error().line(), HasSubstr("no file system"));
    EXPECT_THAT(run({folder_ / "a.dredge", {}, {}, {}, {}, {}}, "b.dredge").error().line(), HasSubstr("catalog"));
    EXPECT_THAT(run({folder_ / "missing.img", {}, {}, {}, {}, {}}).error().line(), HasSubstr("no such file"));
}

TEST_F(ScanTest, AnotherMediumAtTheSamePlaceIsNotMixedIn) {
    const ScanRequest request = request_for("fat12-floppy");
    ASSERT_TRUE(run(request));
    std::filesystem::rename(test::unpack_to("fat16-card", folder_.path()), request.source);
    const auto mixed = run(request);
    ASSERT_FALSE(mixed);
    EXPECT_EQ(mixed.error().kind, ErrorKind::unsafe);
}

TEST_F(ScanTest, ATruncatedImageGivesWhatItHolds) {
    const ScanRequest request = request_for("fat16-card");
    std::filesystem::resize_file(request.source, 3 << 20);
    const auto report = run(request);
    ASSERT_TRUE(report) << report.error().line();
    EXPECT_GT(report->volumes[0].deleted, 10U);
    EXPECT_THAT(listener_.warnings, Contains(HasSubstr("cut short")));
}

}  // namespace
}  // namespace dredger
