#include "restoring/restore.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <sstream>
#include <sys/stat.h>

#include "base/csv.h"
#include "restoring/file_writer.h"
#include "scanning/scan.h"
#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::Listener;
using test::TempFolder;
using testing::HasSubstr;

class RestoreTest : public testing::Test {
  protected:
    void scan_fixture(const std::string& fixture) {
        fixture_ = fixture;
        image_ = test::unpack_to(fixture, folder_.path());
        auto catalog = Catalog::open_for_scan(folder_ / "a.dredge");
        ASSERT_TRUE(catalog);
        Listener quiet;
        ASSERT_TRUE(scan(*catalog, {image_, {}, {}, {}, {}, {}}, quiet));
    }
    // A request for one catalog.
    struct Request : RestoreRequest {
        Selection selection;
        fs::path source;
    };
    Result<RestoreReport> run(const std::function<void(Request&)>& change = {}) {
        auto catalog = Catalog::open(folder_ / "a.dredge");
        Request request;
        request.destination = out();
        if (change) change(request);
        return restore({{&*catalog, request.selection, request.source}}, request, listener_);
    }
    fs::path out() const { return folder_ / "out"; }
    std::vector<std::map<std::string, std::string>> manifest() const {
        return parse_csv(test::read_text(out() / "manifest.csv")).value();
    }
    std::uint64_t count(const RestoreReport& report, Outcome outcome) const {
        return report.counts[static_cast<std::size_t>(outcome)];
    }
    std::vector<fs::path> leftovers() const {
        std::vector<fs::path> found;
        for (const auto& entry : fs::recursive_directory_iterator(out()))
            if (entry.path().extension() == ".unfinished") found.push_back(entry.path());
        return found;
    }

    TempFolder folder_;
    std::string fixture_;
    fs::path image_;
    Listener listener_;
};

TEST_F(RestoreTest, BringsBackBytesNamesFoldersAndDates) {
    scan_fixture("fat32-stick");
    const auto report = run();
    ASSERT_TRUE(report) << report.error().line();
    const auto truth = test::truth_of(fixture_);
    std::size_t compared = 0;
    for (const auto& file : truth["files"]) {
        if (file["state"] == "live") continue;
        const fs::path path = out() / file["path"].get<std::string>();
        ASSERT_TRUE(fs::exists(path)) << path;
        if (file["directory"]) continue;
        EXPECT_EQ(test::sha256_of(path), file["sha256"]) << path;
        struct stat facts {};
        ASSERT_EQ(::stat(path.c_str(), &facts), 0);
        std::tm local{};
        ::localtime_r(&facts.st_mtime, &local);
        EXPECT_EQ(iso8601({::timegm(&local), 0, {}}), file["modified"]) << path;
        ++compared;
    }
    EXPECT_EQ(compared, 63U);
    EXPECT_TRUE(leftovers().empty());
}

TEST_F(RestoreTest, BringsBackModesAndWhatLiesOnALogicalVolume) {
    scan_fixture("lvm-station");
    ASSERT_TRUE(run());
    const auto truth = test::truth_of(fixture_);
    std::size_t compared = 0;
    for (const auto& file : truth["files"]) {
        if (file["state"] != "deleted" || file["directory"]) continue;
        const fs::path path = out() / file["path"].get<std::string>();
        EXPECT_EQ(test::sha256_of(path), file["sha256"]) << path;
        EXPECT_EQ(fs::status(path).permissions(), static_cast<fs::perms>(0644)) << path;
        ++compared;
    }
    EXPECT_GT(compared, 25U);
}

TEST_F(RestoreTest, LeavesAManifestSumsAndALog) {
    scan_fixture("fat16-card");
    const auto report = run();
    ASSERT_TRUE(report);
    const auto rows = manifest();
    EXPECT_EQ(rows.size(), 22U);
    for (auto row : rows) {
        EXPECT_EQ(row["catalog"], "a.dredge");
        if (row["outcome"] == "failed") continue;
        const fs::path path = out() / row["restored_path"];
        EXPECT_EQ(test::sha256_of(path), row["sha256"]);
        EXPECT_EQ(row["outcome"] == "whole", row["band"] == "sound") << row["original_path"];
        EXPECT_EQ(std::to_string(fs::file_size(path)), row["size"]);
    }
    EXPECT_THAT(test::read_text(out() / "restore.log"), HasSubstr("done: "));
    EXPECT_THAT(test::read_text(out() / "SHA256SUMS"), HasSubstr("  DCIM/100NESTS/NEST0003.JPG\n"));
}

TEST_F(RestoreTest, RunAgainItWritesNothingTwice) {
    scan_fixture("fat12-floppy");
    ASSERT_TRUE(run());
    const auto again = run();
    ASSERT_TRUE(again);
    EXPECT_EQ(again->written, 0U);
    EXPECT_EQ(count(*again, Outcome::already), 4U);
    EXPECT_EQ(manifest().size(), 5U);
}

TEST_F(RestoreTest, CollisionsAreNumberedSkippedOrReplaced) {
    scan_fixture("fat12-floppy");
    fs::create_directories(out() / "NESTS");
    const fs::path taken = out() / "NESTS/NEST02.JPG";
    const auto only = [](IfExists what) {
        return [what](Request& r) {
            r.selection.names = {"NEST02.JPG"};
            r.if_exists = what;
        };
    };
    test::write_text(taken, "mine");
    EXPECT_EQ(count(*run(only(IfExists::skip)), Outcome::skipped), 1U);
    EXPECT_EQ(test::read_text(taken), "mine");
    ASSERT_TRUE(run(only(IfExists::number)));
    EXPECT_EQ(test::read_text(taken), "mine");
    EXPECT_EQ(fs::file_size(out() / "NESTS/NEST02 (2).JPG"), 9100U);
    fs::remove(out() / "NESTS/NEST02 (2).JPG");
    ASSERT_TRUE(run(only(IfExists::replace)));
    EXPECT_EQ(fs::file_size(taken), 9100U);
}

TEST_F(RestoreTest, ALinkInTheWayOfAFolderIsNotFollowedAndLosesNothing) {
    scan_fixture("fat32-stick");
    ASSERT_TRUE(run());
    const auto rows = manifest();
    // A folder of the medium that leads nowhere in the destination.
    std::string folder;
    for (const auto& row : rows)
        if (const std::string path = row.at("restored_path"); path.find('/') != path.npos && !row.at("sha256").empty())
            folder = path.substr(0, path.find('/'));
    ASSERT_FALSE(folder.empty());
    fs::remove_all(out());
    fs::create_directory(out());
    fs::create_symlink("/no/such/place", out() / folder);
    const auto report = run();
    ASSERT_TRUE(report) << report.error().line();
    EXPECT_EQ(count(*report, Outcome::failed), 0U);
    EXPECT_EQ(leftovers(), std::vector<fs::path>());
    ASSERT_EQ(manifest().size(), rows.size());
    EXPECT_TRUE(fs::is_symlink(out() / folder));
    for (const auto& row : manifest()) {
        const std::string original = row.at("original_path");
        const bool is_below = original == folder || original.starts_with(folder + "/");
        EXPECT_EQ(row.at("restored_path").starts_with(folder + " (2)"), is_below) << original;
    }
}

TEST_F(RestoreTest, AFileInTheWayOfAFolderLosesNothing) {
    scan_fixture("fat32-stick");
    ASSERT_TRUE(run());
    std::map<std::string, std::string> before;
    std::string folder;
    for (const auto& row : manifest()) {
        before[row.at("original_path")] = row.at("sha256");
        if (const std::string path = row.at("restored_path"); path.find('/') != path.npos)
            folder = path.substr(0, path.find('/'));
    }
    ASSERT_FALSE(folder.empty());
    fs::remove_all(out());
    fs::create_directory(out());
    test::write_text(out() / folder, "somebody's own");
    ASSERT_TRUE(run());
    EXPECT_EQ(test::read_text(out() / folder), "somebody's own");
    std::size_t numbered = 0;
    for (const auto& row : manifest()) {
        EXPECT_EQ(row.at("sha256"), before[row.at("original_path")]) << row.at("original_path");
        if (!row.at("sha256").empty()) {
            EXPECT_EQ(test::sha256_of(out() / row.at("restored_path")), row.at("sha256"));
        }
        numbered += row.at("restored_path").starts_with(folder + " (2)/") ? 1 : 0;
    }
    EXPECT_GT(numbered, 0U);
}

TEST_F(RestoreTest, SomebodysOwnManifestIsLeftAlone) {
    scan_fixture("fat32-stick");
    fs::create_directory(out());
    test::write_text(out() / "manifest.csv", "\"cargo of the boat");
    const auto report = run();
    ASSERT_FALSE(report);
    EXPECT_THAT(report.error().line(), HasSubstr("no manifest of dredger"));
    EXPECT_EQ(test::read_text(out() / "manifest.csv"), "\"cargo of the boat");
    EXPECT_EQ(std::distance(fs::directory_iterator(out()), fs::directory_iterator()), 1) << "nothing else is made";
}

TEST_F(RestoreTest, ADryRunWritesNothing) {
    scan_fixture("fat12-floppy");
    const auto report = run([](Request& r) { r.dry_run = true; });
    ASSERT_TRUE(report);
    EXPECT_FALSE(fs::exists(out()));
    EXPECT_EQ(listener_.outcomes.size(), 5U);
}

TEST_F(RestoreTest, InterruptedItLeavesNoHalfFileAndGoesOn) {
    scan_fixture("fat32-stick");
    listener_.stop_after_calls = 5;
    const auto stopped = run();
    ASSERT_TRUE(stopped);
    EXPECT_TRUE(stopped->interrupted);
    EXPECT_TRUE(leftovers().empty());
    const std::size_t done = manifest().size();
    EXPECT_GT(done, 0U);
    listener_.stop = false;
    const auto resumed = run();
    ASSERT_TRUE(resumed);
    EXPECT_EQ(count(*resumed, Outcome::already) + count(*resumed, Outcome::whole), 72U);
    EXPECT_GT(count(*resumed, Outcome::already), 0U);
}

TEST_F(RestoreTest, UnreadableAndMissingBytesAreToldAsGaps) {
    scan_fixture("fat16-card");
    fs::resize_file(image_, fs::file_size(image_) - 1);  // another size is another medium
    EXPECT_EQ(run().error().kind, ErrorKind::unsafe);
    fs::resize_file(image_, 1'790'000);
    const auto report = run([](Request& r) {
        r.from_changed_source = true;
        r.selection.names = {"NEST0012.JPG"};
    });
    ASSERT_TRUE(report) << report.error().line();
    EXPECT_EQ(count(*report, Outcome::partial), 1U);
    auto row = manifest().at(0);
    EXPECT_EQ(row["outcome"], "partial");
    EXPECT_EQ(row["restored_bytes"], std::to_string(1'790'000 - 1'781'760));
    EXPECT_EQ(fs::file_size(out() / "DCIM/100NESTS/NEST0012.JPG"), 36'000U);
    EXPECT_THAT(test::read_text(out() / "restore.log"), HasSubstr("bytes not had: 8240+27760"));
    EXPECT_THAT(test::read_text(out() / "restore.log"), HasSubstr("overridden"));
}

TEST_F(RestoreTest, WhatIsNotWholeGoesAsideWithItsGaps) {
    scan_fixture("fat16-card");
    fs::resize_file(image_, 1'790'000);
    const auto report = run([](Request& r) {
        r.from_changed_source = true;
        r.partials = Partials::aside;
    });
    ASSERT_TRUE(report) << report.error().line();
    EXPECT_GT(report->count(Outcome::partial), 0U);
    for (auto row : manifest()) {
        const bool is_file = !row["sha256"].empty();
        const bool is_aside = row["restored_path"].starts_with("not whole/");
        EXPECT_EQ(is_aside, is_file && row["outcome"] != "whole") << row["original_path"];
        EXPECT_EQ(fs::exists((out() / row["restored_path"]).string() + ".missing.json"), is_aside);
    }
    const auto side =
        nlohmann::json::parse(test::read_text(out() / "not whole/DCIM/100NESTS/NEST0012.JPG.missing.json"));
    EXPECT_EQ(side["missing"], nlohmann::json::parse("[[8240, 27760]]"));
}

TEST_F(RestoreTest, OnlyWholeOnesAreWrittenWhereNothingElseIsWanted) {
    scan_fixture("fat16-card");
    const auto report = run([](Request& r) { r.partials = Partials::skip; });
    ASSERT_TRUE(report);
    EXPECT_GT(report->count(Outcome::skipped), 0U);
    EXPECT_EQ(report->count(Outcome::doubtful) + report->count(Outcome::partial), 0U);
    for (auto row : manifest()) EXPECT_EQ(row["sha256"].empty() || row["outcome"] == "whole", true);
}

TEST_F(RestoreTest, EveryFileIsReadBackWhereThatIsAskedFor) {
    scan_fixture("ext4-home");
    const auto report = run([](Request& r) { r.verify = true; });
    ASSERT_TRUE(report) << report.error().line();
    EXPECT_EQ(report->count(Outcome::failed), 0U);
    EXPECT_GT(report->count(Outcome::whole), 20U);
}

TEST_F(RestoreTest, QuickSumsKnowFilesAgainAsWell) {
    scan_fixture("fat16-card");
    const auto quick = [](Request& r) { r.sums = SumKind::xxh128; };
    const auto first = run(quick);
    ASSERT_TRUE(first);
    EXPECT_EQ(test::read_text(out() / "SHA256SUMS"), "");
    std::istringstream sums(test::read_text(out() / "XXH128SUMS"));
    std::size_t lines = 0;
    for (std::string line; std::getline(sums, line); ++lines)
        EXPECT_EQ(read_back(out() / line.substr(34), SumKind::xxh128), line.substr(0, 32));
    EXPECT_EQ(lines, first->files);
    for (auto& row : manifest()) {
        EXPECT_EQ(row["sha256"], "");
        const bool has_sum = row["facts"].find("xxh128 ") != std::string::npos;
        EXPECT_EQ(has_sum, !fs::is_directory(out() / row["restored_path"])) << row["restored_path"];
    }
    const auto again = run(quick);
    EXPECT_EQ(count(*again, Outcome::already), first->files);
    // Whichever sums are asked for: what is there is known by its own.
    const auto other = run();
    EXPECT_EQ(count(*other, Outcome::already), first->files);
    EXPECT_EQ(other->written, 0U);
    // A run that was killed left no sums behind: its rows count where the content agrees.
    fs::remove(out() / "XXH128SUMS");
    const std::string victim = manifest().front()["restored_path"];
    std::string changed = test::read_text(out() / victim);
    changed[changed.size() / 2] ^= 1;
    test::write_text(out() / victim, changed);
    const auto resumed = run(quick);
    EXPECT_EQ(count(*resumed, Outcome::already), first->files - 1);
}

TEST(ContentSum, IsThatOfTheUsualPrograms) {
    const auto sum_of = [](SumKind kind, std::string_view text) {
        ContentSum sum(kind);
        for (const char c : text) sum.add(std::as_bytes(std::span(&c, 1)));
        return sum.finish();
    };
    EXPECT_EQ(sum_of(SumKind::sha256, ""), "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855");
    EXPECT_EQ(sum_of(SumKind::xxh128, ""), "99aa06d3014798d86001c324468d497f");
    EXPECT_EQ(sum_of(SumKind::xxh128, "a"), "a96faf705af16834e6c632b61e964e1f");
}

TEST(FileWriter, HolesStayHoles) {
    const TempFolder folder;
    const auto medium = std::make_shared<test::MemoryMedium>(std::vector<std::byte>(1 << 20, std::byte{'p'}));
    FileEntry record;
    record.name = "log";
    MediumLayout layout;
    layout.extents = {Extent::zeros(8 << 20), {4096, 8192}, Extent::zeros(4 << 20)};
    record.size = (12 << 20) + 8192;
    WritingWatch watch;
    auto written = write_file(medium, layout, record, folder / "staged", SumKind::sha256, watch);
    ASSERT_TRUE(written);
    EXPECT_EQ(written->missing, 0U);
    ASSERT_TRUE(written->file.place({folder.path(), "log"}));
    struct stat facts {};
    ASSERT_EQ(::stat((folder / "log").c_str(), &facts), 0);
    EXPECT_EQ(facts.st_size, static_cast<off_t>(record.size));
    EXPECT_LE(facts.st_blocks * 512, 2 << 20);
    EXPECT_EQ(written->sum, test::sha256_of(folder / "log"));
    EXPECT_EQ(read_back(folder / "log", SumKind::sha256), written->sum);
    EXPECT_EQ(test::read_text(folder / "log").substr((8 << 20) - 1, 3), std::string("\0pp", 3));
}

// Thousands may wait while a large one is written.
TEST(FileWriter, FilesThatWaitForTheirPlaceHoldNothingOpen) {
    const TempFolder folder;
    const auto medium = std::make_shared<test::MemoryMedium>(std::vector<std::byte>(4096, std::byte{'p'}));
    const auto open_files = [] {
        return std::distance(fs::directory_iterator("/proc/self/fd"), fs::directory_iterator());
    };
    FileEntry record;
    record.name = "log";
    MediumLayout layout;
    layout.extents = {{0, 700}};
    record.size = 700;
    WritingWatch watch;
    const auto before = open_files();
    std::vector<StagedFile> waiting;
    for (int n = 0; n < 50; ++n) {
        auto written = write_file(medium, layout, record, folder / std::to_string(n), SumKind::sha256, watch);
        ASSERT_TRUE(written);
        ASSERT_TRUE(written->file.complete(record, MakingTime::none));
        waiting.push_back(std::move(written->file));
    }
    EXPECT_EQ(open_files(), before);
    for (std::size_t n = 0; n < waiting.size(); n += 2)
        ASSERT_TRUE(waiting[n].place({folder.path(), "placed " + std::to_string(n)}));
    waiting.clear();
    EXPECT_EQ(std::distance(fs::directory_iterator(folder.path()), fs::directory_iterator()), 25);
}

TEST_F(RestoreTest, AMissingSourceSaysHowToTellWhereItIs) {
    scan_fixture("fat12-floppy");
    fs::rename(image_, folder_ / "moved.img");
    EXPECT_THAT(run().error().line(), HasSubstr("--source"));
    EXPECT_TRUE(run([&](Request& r) { r.source = folder_ / "moved.img"; }));
}

TEST_F(RestoreTest, NothingSelectedIsNothingDone) {
    scan_fixture("fat12-floppy");
    const auto report = run([](Request& r) { r.selection.names = {"no such name"}; });
    ASSERT_TRUE(report);
    EXPECT_EQ(report->files, 0U);
    EXPECT_FALSE(fs::exists(out()));
}

}  // namespace
}  // namespace dredger
