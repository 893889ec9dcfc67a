// Scans of media that lost their partition table, or were formatted by mistake: what comes back, and under which name.
#include <fstream>
#include <gmock/gmock.h>
#include <nlohmann/json.hpp>

#include "base/digest.h"
#include "media/content.h"
#include "media/file_medium.h"
#include "scanning/housekeeping.h"
#include "scanning/scan_fixture.h"
#include "scanning/volumes_of.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

class LostScanTest : public test::ScanFixture {
  protected:
    fs::path image(const std::string& fixture) { return test::unpack_to(fixture, folder_.path()); }
    // Of these states; none: all.
    std::map<std::string, Candidate> finds(std::set<State> states = Selection().states) {
        const auto catalog = Catalog::open(folder_ / "a.dredge").value();
        std::map<std::string, Candidate> finds;
        Selection wanted;
        wanted.states = std::move(states);
        EXPECT_TRUE(catalog.each(wanted, Order{Order::By::path}, true, [&](const Candidate& c) {
            finds[c.record.path()] = c;
            return true;
        }));
        return finds;
    }
    static std::string sha256_of(const MediumPtr& medium, const Candidate& c) {
        const auto content = open_content(medium, c.layout, c.record.size);
        std::vector<std::byte> bytes(static_cast<std::size_t>(content->size()));
        std::vector<Extent> bad;
        EXPECT_TRUE(content->read(0, bytes, &bad));
        Sha256 sum;
        sum.add(bytes);
        return sum.finish();
    }
    static void zero(const fs::path& file, std::uint64_t at, std::size_t length) {
        std::fstream out(file, std::ios::binary | std::ios::in | std::ios::out);
        out.seekp(static_cast<std::streamoff>(at));
        out << std::string(length, '\0');
    }
};

class Formatted : public LostScanTest, public testing::WithParamInterface<const char*> {};

TEST_P(Formatted, GivesBackEveryFileThatStandsWithItsPath) {
    const fs::path file = image(GetParam());
    const auto report = run({file, {}, {}, {}, {}, {}});
    ASSERT_TRUE(report) << report.error().line();
    EXPECT_THAT(listener_.warnings, testing::Contains(testing::HasSubstr("it was formatted before")));
    const MediumPtr medium = FileMedium::open(file).value();
    const auto found = finds();
    const auto truth = test::truth_of(GetParam());
    unsigned whole = 0;
    for (const auto& told : truth["files"]) {
        if (told["directory"] || told["size"] == 0 || told["intact_bytes"] != told["size"]) continue;
        const auto find = found.find(told["path"]);
        ASSERT_NE(find, found.end()) << told["path"];
        const Candidate& c = find->second;
        EXPECT_EQ(sha256_of(medium, c), told["sha256"]) << told["path"];
        EXPECT_EQ(c.record.state, told["state"] == "lost" ? State::lost : State::deleted) << told["path"];
        EXPECT_EQ(c.record.origin, Origin::remnant) << told["path"];
        EXPECT_NE(c.prospect.band, Band::gone) << told["path"];
        ++whole;
    }
    EXPECT_GT(whole, 70U);
    for (const auto& [path, c] : found) {
        EXPECT_THAT(path, testing::Not(testing::HasSubstr("part of a folder"))) << "listed under the wrong geometry";
    }
}

INSTANTIATE_TEST_SUITE_P(Media, Formatted, testing::Values("ntfs-formatted", "ntfs-reclustered", "fat32-reclustered"),
                         [](const auto& one) {
                             std::string name = one.param;
                             std::replace(name.begin(), name.end(), '-', '_');
                             return name;
                         });

class FormattedAsAnother : public LostScanTest, public testing::WithParamInterface<const char*> {};

// Both lives are told apart, and what of the former one stands comes back with its path.
TEST_P(FormattedAsAnother, GivesBackWhatStandsOfTheFormerOne) {
    const fs::path file = image(GetParam());
    ScanRequest request{file, {}, {}, {}, {}, {}};
    const auto quick = run(request);
    ASSERT_TRUE(quick) << quick.error().line();
    ASSERT_EQ(quick->volumes.size(), 2U);
    EXPECT_EQ(quick->volumes[1].formatted_since, 1U);
    EXPECT_TRUE(quick->volumes[1].is_lost);
    const MediumPtr medium = FileMedium::open(file).value();
    const auto check = [&] {
        const auto found = finds();
        const auto truth = test::truth_of(GetParam());
        unsigned whole = 0, exact = 0;
        for (const auto& told : truth["files"]) {
            if (told["directory"] || told["size"] == 0 || told["intact_bytes"] != told["size"]) continue;
            std::string path = told["path"];
            std::replace(path.begin(), path.end(), ':', ';');
            if (told["state"] == "trashed" || told.contains("original_path")) continue;
            ++whole;
            const auto find = found.find(path);
            if (find == found.end()) continue;
            EXPECT_EQ(find->second.record.origin, Origin::remnant) << path;
            exact += sha256_of(medium, find->second) == told["sha256"] ? 1 : 0;
        }
        EXPECT_GT(whole, 40U);
        EXPECT_GE(exact * 100, whole * 97) << exact << " of " << whole;
        for (const auto& [path, c] : found) EXPECT_NE(c.record.origin, Origin::signature) << path << " is listed twice";
    };
    check();
    request.deep = true;
    ASSERT_TRUE(run(request));
    check();
}

INSTANTIATE_TEST_SUITE_P(Media, FormattedAsAnother,
                         testing::Values("fat32-over-ntfs", "ntfs-over-fat32", "exfat-over-fat32", "fat32-over-exfat"),
                         [](const auto& one) {
                             std::string name = one.param;
                             std::replace(name.begin(), name.end(), '-', '_');
                             return name;
                         });

TEST_F(LostScanTest, AnExtThatWasFormattedAgainGivesBackItsFormerInodes) {
    const fs::path file = image("ext4-formatted");
    ASSERT_TRUE(run({file, {}, {}, {}, {}, {}}));
    const MediumPtr medium = FileMedium::open(file).value();
    std::set<std::string> sums;
    for (const auto& [path, c] : finds())
        if (c.record.state == State::lost && !c.layout.empty()) sums.insert(sha256_of(medium, c));
    unsigned exact = 0;
    const auto truth = test::truth_of("ext4-formatted");
    for (const auto& told : truth["files"])
        exact += told["sha256"].is_string() && sums.contains(told["sha256"]) ? 1 : 0;
    EXPECT_GT(exact, 40U);
}

class WithoutBootSector : public LostScanTest, public testing::WithParamInterface<const char*> {};

// Of the volume of a table, all copies of the boot sector zeroed.
TEST_P(WithoutBootSector, EverythingIsFoundAsBefore) {
    const fs::path file = image(GetParam());
    ASSERT_TRUE(run({file, {}, {}, {}, {}, {}}));
    const auto before = finds({});
    const auto truth = test::truth_of(GetParam());
    const auto& volume = truth["volumes"][0];
    const auto at = volume["offset"].get<std::uint64_t>(), length = volume["length"].get<std::uint64_t>();
    zero(file, at, 512);
    if (volume["filesystem"] == "fat32") zero(file, at + 6 * 512, 512);
    if (volume["filesystem"] == "ntfs") zero(file, at + length - 512, 512);
    fs::remove(folder_ / "a.dredge");
    const auto report = run({file, {}, {}, {}, {}, {}});
    ASSERT_TRUE(report) << report.error().line();
    EXPECT_THAT(listener_.warnings, testing::Contains(testing::HasSubstr("no boot sector any more")));
    const auto after = finds({});
    EXPECT_EQ(after.size(), before.size());
    for (const auto& [path, c] : before) {
        const auto same = after.find(path);
        ASSERT_NE(same, after.end()) << path;
        EXPECT_EQ(same->second.layout.extents, c.layout.extents) << path;
        // No system mounts it any more: what lived there is lost to its owner.
        const bool was_live = c.record.state == State::live && !c.record.is_own;
        EXPECT_EQ(same->second.record.state, was_live ? State::lost : c.record.state) << path;
    }
}

INSTANTIATE_TEST_SUITE_P(Media, WithoutBootSector,
                         testing::Values("fat32-stick", "fat16-card", "ntfs-small", "ntfs-office"),
                         [](const auto& one) {
                             std::string name = one.param;
                             std::replace(name.begin(), name.end(), '-', '_');
                             return name;
                         });

TEST_F(LostScanTest, AFatWithTheSameClustersIsReadUnderTheNumbersOfItsFolders) {
    ASSERT_TRUE(run({image("fat32-formatted"), {}, {}, {}, {}, {}}));
    const auto found = finds();
    unsigned schedules = 0;
    for (const auto& [path, c] : found) {
        EXPECT_TRUE(path.starts_with("(folder ")) << path;
        // What was not deleted itself was lost with its folder.
        const bool was_live = c.record.name.starts_with("Boat schedule");
        EXPECT_EQ(c.record.state, was_live ? State::lost : State::deleted) << path;
        schedules += was_live ? 1 : 0;
    }
    EXPECT_EQ(schedules, 6U);
}

TEST_F(LostScanTest, WithoutItsPartitionTableADriveGivesBackWhatWasThere) {
    const fs::path file = image("ringing-station-drive");
    const MediumPtr before = FileMedium::open(file).value();
    const PartitionMap map = read_partition_map(*before).value();
    zero(file, 0, 512);
    const MediumPtr medium = FileMedium::open(file).value();
    const PartitionMap volumes = VolumesOfMedium::find(medium, listener_).value()->map();
    ASSERT_EQ(volumes.volumes.size(), map.volumes.size());
    for (std::size_t i = 0; i < map.volumes.size(); ++i) {
        EXPECT_EQ(volumes.volumes[i].offset, map.volumes[i].offset);
        EXPECT_EQ(volumes.volumes[i].number, map.volumes[i].number);
        EXPECT_EQ(volumes.volumes[i].table, TableKind::lost);
    }
    const auto report = run({file, {}, {}, {}, {}, {}});
    ASSERT_TRUE(report);
    for (const VolumeReport& volume : report->volumes) EXPECT_TRUE(volume.is_lost);
    const auto found = finds();
    const auto truth = test::truth_of("ringing-station-drive");
    unsigned live = 0;
    for (const auto& told : truth["files"]) {
        if (told["directory"] || told["state"] != "live" || told["size"] == 0) continue;
        if (is_housekeeping(told["path"].get<std::string>())) continue;
        const auto find = found.find(told["path"]);
        ASSERT_NE(find, found.end()) << told["path"];
        EXPECT_EQ(find->second.record.state, State::lost) << told["path"];
        EXPECT_EQ(find->second.prospect.band, Band::sound) << told["path"];
        EXPECT_EQ(sha256_of(medium, find->second), told["sha256"]) << told["path"];
        ++live;
    }
    EXPECT_GT(live, 10U);
    EXPECT_FALSE(found.contains(".")) << "the file system's own records are nobody's loss";
    EXPECT_FALSE(found.contains("$MFT"));
    EXPECT_FALSE(found.contains("(record 12)"));
}

TEST_F(LostScanTest, AnEntryThatWasDeletedFromTheTableIsALostVolume) {
    constexpr std::uint64_t kSecondEntry = 446 + 16;
    const fs::path file = image("ringing-station-drive");
    zero(file, kSecondEntry, 16);
    const MediumPtr medium = FileMedium::open(file).value();
    const PartitionMap volumes = VolumesOfMedium::find(medium, listener_).value()->map();
    ASSERT_EQ(volumes.volumes.size(), 3U);
    EXPECT_EQ(volumes.volumes[1].type, "Linux") << "the table's own ones keep their order";
    EXPECT_EQ(volumes.volumes[2].table, TableKind::lost);
    EXPECT_EQ(volumes.volumes[2].type, "NTFS");
    EXPECT_EQ(volumes.volumes[2].offset, 64U << 20);
}

TEST_F(LostScanTest, WithBothEndsOfItsGptWipedADriveGivesBackWhatWasThere) {
    const fs::path file = image("fat32-stick");
    const std::uint64_t size = fs::file_size(file);
    zero(file, 0, 34 * 512);
    zero(file, size - 33 * 512, 33 * 512);
    const MediumPtr medium = FileMedium::open(file).value();
    const PartitionMap volumes = VolumesOfMedium::find(medium, listener_).value()->map();
    ASSERT_EQ(volumes.volumes.size(), 1U);
    EXPECT_EQ(volumes.volumes[0].table, TableKind::lost);
    EXPECT_EQ(volumes.volumes[0].type, "FAT32");
    EXPECT_EQ(volumes.volumes[0].offset, test::truth_of("fat32-stick")["volumes"][0]["offset"].get<std::uint64_t>());
    ASSERT_TRUE(run({file, {}, {}, {}, {}, {}}));
    const auto found = finds();
    const auto truth = test::truth_of("fat32-stick");
    for (const auto& told : truth["files"]) {
        if (told["directory"] || told["size"] == 0 || told["intact_bytes"] != told["size"]) continue;
        ASSERT_TRUE(found.contains(told["path"])) << told["path"];
        EXPECT_EQ(sha256_of(medium, found.at(told["path"])), told["sha256"]) << told["path"];
    }
}

// At a place where no partition begins, without a table: what the deep scan meets on its way.
TEST_F(LostScanTest, AVolumeAnywhereIsMetByTheDeepScan) {
    constexpr std::uint64_t kOdd = (3 << 20) + 1234 * 512;
    const fs::path volume = image("ntfs-small"), drive = folder_ / "drive.img";
    const auto truth = test::truth_of("ntfs-small");
    {
        std::ofstream(drive).close();
        fs::resize_file(drive, kOdd);
        std::ofstream out(drive, std::ios::binary | std::ios::app);
        out << std::ifstream(volume, std::ios::binary).rdbuf() << std::string(1 << 20, '\0');
    }
    ScanRequest request{drive, {}, {}, {}, {}, {}};
    request.deep = true;
    const auto report = run(request);
    ASSERT_TRUE(report) << report.error().line();
    ASSERT_FALSE(report->volumes.empty());
    EXPECT_TRUE(report->volumes.back().is_lost);
    EXPECT_EQ(report->volumes.back().filesystem, "NTFS");
    const MediumPtr medium = FileMedium::open(drive).value();
    const auto found = finds();
    unsigned whole = 0;
    std::set<std::uint64_t> starts;
    for (const auto& told : truth["files"]) {
        if (told["directory"] || told["size"] == 0 || told["intact_bytes"] != told["size"] ||
            told["state"] == "trashed")
            continue;
        const auto find = found.find(told["path"]);
        if (find == found.end()) continue;
        EXPECT_EQ(sha256_of(medium, find->second), told["sha256"]) << told["path"];
        const auto& extents = find->second.layout.extents;
        if (!extents.empty()) starts.insert(extents.front().offset);
        ++whole;
    }
    EXPECT_GT(whole, 20U);
    for (const auto& [path, c] : found)
        if (c.record.origin == Origin::signature) {
            EXPECT_FALSE(starts.contains(c.layout.extents.front().offset)) << path << " is listed twice";
        }
    // Again, it is all there already.
    const auto again = run(request);
    ASSERT_TRUE(again);
    EXPECT_TRUE(again->volumes.back().was_done_before);
    EXPECT_EQ(finds().size(), found.size());
}

TEST_F(LostScanTest, ADriveInOrderHasNoLostVolumes) {
    for (const char* fixture : {"ringing-station-drive", "fat32-stick", "exfat-card", "mbr-chain", "ntfs-office"}) {
        const MediumPtr medium = FileMedium::open(image(fixture)).value();
        const PartitionMap volumes = VolumesOfMedium::find(medium, listener_).value()->map();
        for (const Volume& volume : volumes.volumes) EXPECT_NE(volume.table, TableKind::lost) << fixture;
        ScanRequest deep{medium->name(), {}, {}, {}, {}, {}};
        deep.deep = true;
        const auto report = run(deep);
        ASSERT_TRUE(report) << report.error().line();
        for (const VolumeReport& volume : report->volumes) EXPECT_FALSE(volume.is_lost) << fixture;
        fs::remove(folder_ / "a.dredge");
    }
}

}  // namespace
}  // namespace dredger
