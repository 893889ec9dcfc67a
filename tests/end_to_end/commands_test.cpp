// Drives the built program as a technician does, on media that real drivers wrote.
#include <csignal>
#include <fstream>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>
#include <sys/mount.h>
#include <sys/stat.h>

#include "base/csv.h"
#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;
using test::Ran;
using test::run_program;
using test::TempFolder;
using testing::AllOf;
using testing::AnyOf;
using testing::HasSubstr;
using testing::Not;
using testing::StartsWith;

std::vector<json> lines_of(const std::string& text) {
    std::vector<json> lines;
    for (std::size_t from = 0; from < text.size();) {
        const std::size_t end = text.find('\n', from);
        lines.push_back(json::parse(text.substr(from, end - from)));
        from = end + 1;
    }
    return lines;
}

// Where a file of the demo medium's truth is restored: at its place before the bin, a stream beside its file.
std::string restored_place(const json& file) {
    std::string path = file.value("original_path", file["path"].get<std::string>());
    if (path.starts_with("D:/")) path.erase(0, 3);
    std::replace(path.begin(), path.end(), ':', ';');
    return path;
}

class ProgramTest : public testing::Test {
  protected:
    std::string unpack(const std::string& fixture) { return test::unpack_to(fixture, folder_.path()).string(); }
    std::string path(const std::string& name) const { return (folder_ / name).string(); }
    Ran scanned(const std::string& fixture) { return run_program({"scan", unpack(fixture), "-c", path("a.dredge")}); }
    static void expect_one_line(const Ran& ran, int exit_code, const std::string& part) {
        EXPECT_EQ(ran.exit_code, exit_code) << ran.err;
        EXPECT_THAT(ran.err, StartsWith("dredger: "));
        EXPECT_THAT(ran.err, HasSubstr(part));
        EXPECT_EQ(std::count(ran.err.begin(), ran.err.end(), '\n'), 1) << ran.err;
    }

    TempFolder folder_;
};

TEST_F(ProgramTest, TheWholeJob) {
    const std::string image = unpack("ringing-station-drive");
    const auto before = test::sha256_of(image);
    const Ran survey = run_program({"survey", image});
    EXPECT_EQ(survey.exit_code, 0) << survey.err;
    EXPECT_THAT(survey.out, HasSubstr("RINGCARD"));
    EXPECT_THAT(
        survey.out,
        HasSubstr("In the bin of volume 2: 9 files and 1 folder (233.8 KiB), thrown away 2026-10-20 to 2026-11-03"));
    EXPECT_THAT(survey.out, HasSubstr("dredger scan " + image));

    const Ran scan = run_program({"scan", image, "-c", path("card.dredge")});
    EXPECT_EQ(scan.exit_code, 0) << scan.err;
    EXPECT_THAT(scan.out, AllOf(HasSubstr("64 finds"), HasSubstr("Look in the bin first")));

    const Ran list = run_program({"list", path("card.dredge")});
    EXPECT_THAT(list.out, HasSubstr("Küken Nest 4.jpg"));
    EXPECT_THAT(list.out, HasSubstr("52 files, 2.4 MiB: 48 sound, 2 patchy, 2 gone; 12 folders"));
    EXPECT_EQ(list.out.find('\x1B'), std::string::npos) << "colour without a terminal";

    const Ran restore = run_program({"restore", path("card.dredge"), "--prospect", "88..", "--to", path("out")});
    EXPECT_EQ(restore.exit_code, 0) << restore.err;
    const auto truth = test::truth_of("ringing-station-drive");
    std::size_t compared = 0;
    for (const auto& file : truth["files"]) {
        const fs::path restored = folder_ / "out" / restored_place(file);
        if (file["state"] == "live" || file["directory"] || !fs::exists(restored)) continue;
        EXPECT_EQ(test::sha256_of(restored), file["sha256"]) << restored;
        ++compared;
    }
    EXPECT_EQ(compared, 47U);
    EXPECT_TRUE(fs::is_directory(folder_ / "out/Grant application 2027/Letters of support"));
    EXPECT_TRUE(fs::is_directory(folder_ / "out/Gannet colony survey 2026/Photos/East cliff"));
    EXPECT_EQ(test::sha256_of(image), before) << "the medium was written to";
}

TEST_F(ProgramTest, WhatWasThrownAwayComesBackToItsPlace) {
    ASSERT_EQ(scanned("ntfs-office").exit_code, 0);
    const Ran list = run_program({"list", path("a.dredge"), "--state", "trashed", "--as", "jsonl"});
    std::map<std::string, json> finds;
    for (const json& find : lines_of(list.out)) finds[find["path"]] = find;
    ASSERT_TRUE(finds.contains("Logs/Colony/Deep/west.csv"));
    const Ran table = run_program({"list", path("a.dredge"), "--state", "trashed"});
    EXPECT_THAT(table.out, AllOf(HasSubstr("DELETED"), HasSubstr("2026-07-03 10:00  Logs/Colony/Deep/west.csv")));
    EXPECT_THAT(run_program({"list", path("a.dredge"), "--name", "Panorama*"}).out, Not(HasSubstr("DELETED")));
    EXPECT_EQ(finds["Logs/Colony/Deep/west.csv"]["deleted"], "2026-07-03T10:00:00Z");
    EXPECT_EQ(finds["Logs/Colony/Deep/west.csv"]["band"], "sound");
    EXPECT_EQ(finds["Old logs/auks 2004.txt"]["deleted"], "2004-06-01T08:00:00Z");
    const Ran show = run_program({"show", path("a.dredge"), std::to_string(finds["Logs/terns.csv"]["id"].get<int>())});
    EXPECT_THAT(show.out, HasSubstr("E:\\Logs\\terns.csv"));
    EXPECT_THAT(show.out, HasSubstr("$RA1B2C3.csv"));
    EXPECT_THAT(show.out, HasSubstr("S-1-5-21-2718281828-1414213562-577215664-1001"));
    EXPECT_THAT(show.out, HasSubstr("it still lies in the bin"));
    const Ran restore = run_program({"restore", path("a.dredge"), "--state", "trashed", "--to", path("out")});
    EXPECT_EQ(restore.exit_code, 0) << restore.err;
    const auto truth = test::truth_of("ntfs-office");
    std::size_t compared = 0;
    for (const auto& file : truth["files"]) {
        if (file["state"] != "trashed" || file["directory"]) continue;
        EXPECT_EQ(test::sha256_of(folder_ / "out" / file["original_path"].get<std::string>().substr(3)),
                  file["sha256"]);
        ++compared;
    }
    EXPECT_EQ(compared, 6U);
}

TEST_F(ProgramTest, StreamsSparseAndCompressedFilesAreWrittenOut) {
    ASSERT_EQ(scanned("ntfs-office").exit_code, 0);
    const Ran restore = run_program({"restore", path("a.dredge"), "--prospect", "50..", "--to", path("out")});
    EXPECT_EQ(restore.exit_code, 1) << "not all of them are whole";
    std::map<std::string, json> files;
    const auto truth = test::truth_of("ntfs-office");
    for (const auto& file : truth["files"]) files[file["path"]] = file;
    for (const char* name :
         {"Packed/log 2.txt", "Packed/mixed.dat", "Sparse.img", "Mail/Boat times.eml", "Panorama.jpg"})
        EXPECT_EQ(test::sha256_of(folder_ / "out" / name), files[name]["sha256"]) << name;
    EXPECT_EQ(test::sha256_of(folder_ / "out/Mail/Boat times.eml;Zone.Identifier"),
              files["Mail/Boat times.eml:Zone.Identifier"]["sha256"]);
}

TEST_F(ProgramTest, JsonLinesKeepTheirContract) {
    ASSERT_EQ(scanned("fat16-card").exit_code, 0);
    const Ran plain = run_program({"list", path("a.dredge"), "--as", "jsonl"});
    const auto lines = lines_of(plain.out);
    ASSERT_EQ(lines.size(), 22U);
    for (const json& line : lines) {
        for (const char* key : {"catalog", "id", "state", "origin", "name", "path", "size", "kind", "format", "created",
                                "modified", "accessed", "deleted", "prospect", "band", "check", "reasons", "volume"})
            EXPECT_TRUE(line.contains(key)) << key;
        EXPECT_FALSE(line.contains("extents"));
        EXPECT_THAT(line["modified"].get<std::string>(), testing::MatchesRegex("2026-05-..T..:..:.."));
        EXPECT_EQ(line["deleted"], nullptr);
    }
    const auto with =
        lines_of(run_program({"list", path("a.dredge"), "--as", "jsonl", "--extents", "--name", "colony*"}).out);
    ASSERT_EQ(with.size(), 1U);
    EXPECT_EQ(with[0]["extents"].size(), 8U);
    EXPECT_EQ(with[0]["extents"][0], json::array({2328576, 8192}));
    EXPECT_EQ(with[0]["format"], "jpeg");
}

TEST_F(ProgramTest, ACsvListIsAPickList) {
    ASSERT_EQ(scanned("fat16-card").exit_code, 0);
    const Ran csv = run_program({"list", path("a.dredge"), "--as", "csv", "--ext", "jpg"});
    test::write_text(folder_ / "picks.csv", csv.out);
    const auto rows = parse_csv(csv.out);
    ASSERT_TRUE(rows);
    EXPECT_EQ(rows->size(), 4U);
    const Ran restore = run_program({"restore", path("a.dredge"), "--picks", path("picks.csv"), "--to", path("out")});
    EXPECT_EQ(restore.exit_code, 0) << restore.err;
    EXPECT_THAT(restore.out, HasSubstr("4 files"));
    expect_one_line(run_program({"list", path("a.dredge"), "--picks", path("nothing.csv")}), 2, "pick list");
}

TEST_F(ProgramTest, ListNarrowsAndSaysWhenNothingIsLeft) {
    ASSERT_EQ(scanned("ringing-station-drive").exit_code, 0);
    const std::string catalog = path("a.dredge");
    EXPECT_THAT(run_program({"list", catalog, "--kind", "audio"}).out, HasSubstr("4 files, 321.7 KiB: 4 sound"));
    EXPECT_THAT(run_program({"list", catalog, "--folder", "gannet*", "--size", "60K.."}).out, HasSubstr("1 file,"));
    EXPECT_THAT(run_program({"list", catalog, "--state", "live", "--name", "*.pdf"}).out,
                HasSubstr("Landing permit north stack.pdf"));
    EXPECT_THAT(run_program({"list", catalog, "--folder", "Gannet colony survey 2026"}).out,
                HasSubstr("16 files, 560.8 KiB: 16 sound; 6 folders"));
    EXPECT_THAT(run_program({"list", catalog, "--modified", "2026-06-24"}).out, HasSubstr("1 file,"));
    const Ran nothing = run_program({"list", catalog, "--kind", "database"});
    EXPECT_EQ(nothing.exit_code, 1);
    EXPECT_THAT(nothing.err, HasSubstr("Nothing in the catalog is selected"));
    expect_one_line(run_program({"list", catalog, "--kind", "pictures"}), 2, "choose from picture, video");
    expect_one_line(run_program({"list", catalog, "--size", "big"}), 2, "--size");
    expect_one_line(run_program({"list", catalog, "--as", "xml"}), 2, "--as");
}

TEST_F(ProgramTest, LinuxVolumesAreSurveyedScannedVerifiedAndRestored) {
    for (const char* fixture : {"ext4-home", "xfs-colony", "btrfs-notes"}) {
        const std::string image = test::unpack_to(fixture, folder_.path()).string();
        const std::string catalog = path(std::string(fixture) + ".dredge"), out = path(std::string(fixture) + "-out");
        const Ran survey = run_program({"survey", image});
        EXPECT_EQ(survey.exit_code, 0) << survey.err;
        EXPECT_THAT(survey.out, HasSubstr("Next: dredger scan"));
        ASSERT_EQ(run_program({"scan", "--verify", image, "-c", catalog}).exit_code, 0);
        ASSERT_EQ(run_program({"restore", catalog, "--state", "deleted", "--to", out}).exit_code, 0) << fixture;
        const auto truth = test::truth_of(fixture);
        unsigned compared = 0;
        for (const auto& file : truth["files"]) {
            const fs::path restored = fs::path(out) / file["path"].get<std::string>();
            if (file["state"] != "deleted" || file["directory"] || !fs::exists(restored)) continue;
            compared += test::sha256_of(restored) == file["sha256"] ? 1 : 0;
        }
        EXPECT_GT(compared, 25U) << fixture;
        if (std::string_view(fixture) == "btrfs-notes") {
            EXPECT_THAT(run_program({"list", catalog, "--check", "verified", "--ext", "wav"}).out, HasSubstr("1 file,"))
                << "its sums stand in an older tree";
        }
        const auto finds = lines_of(run_program({"list", catalog, "--as", "jsonl"}).out);
        const auto id = std::to_string(finds.front()["id"].get<int>());
        EXPECT_THAT(run_program({"show", catalog, id}).out, AllOf(HasSubstr("mode"), HasSubstr("owner")));
    }
}

TEST_F(ProgramTest, ListSortsAndPages) {
    scanned("ringing-station-drive");
    const Ran big = run_program({"list", path("a.dredge"), "--sort", "-size", "--limit", "2"});
    EXPECT_EQ(big.exit_code, 0) << big.err;
    const auto at = [&](const char* text) { return big.out.find(text); };
    EXPECT_LT(at("cam2 2026-06-14 0410.mp4"), at("All rings since 1987.csv"));
    EXPECT_THAT(big.out, HasSubstr("Shown: 1 to 2. Go on with --from 3"));
    EXPECT_THAT(big.out, HasSubstr("52 files, 2.4 MiB")) << "the totals are those of all";
    const Ran last = run_program({"list", path("a.dredge"), "--from", "64", "--limit", "9"});
    EXPECT_THAT(last.out, HasSubstr("Shown: 64 to 64.\n"));
    EXPECT_THAT(run_program({"list", path("a.dredge"), "--from", "66"}).out,
                HasSubstr("There are 64 finds: --from 66 is behind the last."));
    const auto lines = lines_of(
        run_program({"list", path("a.dredge"), "--as", "jsonl", "--sort", "size", "--from", "20", "--limit", "3"}).out);
    ASSERT_EQ(lines.size(), 3U);
    EXPECT_LE(lines[0]["size"], lines[1]["size"]);
    expect_one_line(run_program({"list", path("a.dredge"), "--sort", "colour"}), 2, "colour is no order");
}

TEST_F(ProgramTest, ListPagesThroughSeveralCatalogs) {
    scanned("ringing-station-drive");
    fs::copy_file(path("a.dredge"), path("b.dredge"));
    const auto page = [&](const char* from) {
        return run_program({"list", path("a.dredge"), path("b.dredge"), "--from", from, "--limit", "4", "--as", "csv"});
    };
    const std::string seam = page("64").out;
    EXPECT_EQ(std::count(seam.begin(), seam.end(), '\n'), 5) << seam;
    EXPECT_THAT(seam, AllOf(HasSubstr("a.dredge"), HasSubstr("b.dredge")));
    EXPECT_THAT(page("66").out, Not(HasSubstr("a.dredge")));
}

TEST_F(ProgramTest, ListGroups) {
    scanned("ringing-station-drive");
    const Ran tree = run_program({"list", path("a.dredge"), "--group", "folder"});
    EXPECT_EQ(tree.exit_code, 0) << tree.err;
    EXPECT_THAT(tree.out, AllOf(HasSubstr("  Gannet colony survey 2026/\n"), HasSubstr("    Photos/\n"),
                                HasSubstr("      West cliff/\n"), HasSubstr("(top folder)")));
    const Ran flat = run_program({"list", path("a.dredge"), "--group", "folder", "--depth", "1"});
    EXPECT_THAT(flat.out, Not(HasSubstr("Photos/")));
    EXPECT_THAT(run_program({"list", path("a.dredge"), "--group", "date"}).out, HasSubstr("  2026-06\n"));

    // Every file is in one group, whatever the grouping.
    for (const char* grouping : {"kind", "format", "medium", "volume"}) {
        const auto groups = lines_of(run_program({"list", path("a.dredge"), "--group", grouping, "--as", "jsonl"}).out);
        std::uint64_t files = 0;
        std::uint64_t sound = 0;
        for (const json& group : groups) {
            files += group["files"].get<std::uint64_t>();
            sound += group["sound"].get<std::uint64_t>();
        }
        EXPECT_EQ(files, 52U) << grouping;
        EXPECT_EQ(sound, 48U) << grouping;
    }
    const auto csv = parse_csv(run_program({"list", path("a.dredge"), "--group", "kind", "--as", "csv"}).out);
    ASSERT_TRUE(csv);
    ASSERT_FALSE(csv->empty());
    auto first = csv->front();
    EXPECT_EQ(first["group"], "audio");
    EXPECT_EQ(first["sound"], first["files"]);
    EXPECT_THAT(run_program({"list", path("a.dredge"), "--group", "kind", "--name", "*.nothing"}).err,
                HasSubstr("Nothing in the catalog is selected."));
    expect_one_line(run_program({"list", path("a.dredge"), "--group", "colour"}), 2, "--group");
}

TEST_F(ProgramTest, ShowTellsEverything) {
    ASSERT_EQ(scanned("ringing-station-drive").exit_code, 0);
    const auto found = lines_of(run_program({"list", path("a.dredge"), "--as", "jsonl", "--name", "NEST0002.JPG"}).out);
    ASSERT_EQ(found.size(), 1U);
    const std::string id = std::to_string(found[0]["id"].get<int>());
    const Ran show = run_program({"show", path("a.dredge"), id});
    EXPECT_EQ(show.exit_code, 0) << show.err;
    EXPECT_THAT(show.out, HasSubstr("DCIM/100NESTS/NEST0002.JPG"));
    EXPECT_THAT(show.out, HasSubstr("is overwritten by"));
    EXPECT_THAT(show.out, HasSubstr("NEST0102.JPG (live)"));
    EXPECT_THAT(show.out, HasSubstr("its zone is not known"));
    EXPECT_THAT(show.out, HasSubstr("How it begins"));
    fs::rename(path("ringing-station-drive.img"), path("moved.img"));
    EXPECT_THAT(run_program({"show", path("a.dredge"), id}).out, HasSubstr("tell where it is with --source"));
    EXPECT_THAT(run_program({"show", path("a.dredge"), id, "--source", path("moved.img")}).out, HasSubstr("000000"));
    expect_one_line(run_program({"show", path("a.dredge"), "9999"}), 2, "no find 9999");
}

TEST_F(ProgramTest, ShowDrawsWhatBecameOfEachPart) {
    scanned("ringing-station-drive");
    const auto finds = lines_of(run_program({"list", path("a.dredge"), "--as", "jsonl"}).out);
    const auto id_of = [&](const std::string& name) {
        const auto found = std::find_if(finds.begin(), finds.end(), [&](const json& f) { return f["name"] == name; });
        return found == finds.end() ? std::string("0") : std::to_string((*found)["id"].get<int>());
    };
    const std::string half = run_program({"show", path("a.dredge"), id_of("March razorbills.jpg")}).out;
    EXPECT_THAT(half, AllOf(HasSubstr("  ××××"), HasSubstr("━━━━\n"), HasSubstr("× taken over by a file that is there"),
                            HasSubstr("28.5 KiB of it: "), HasSubstr("Answer to the ministry.docx (live)")));
    const std::string whole = run_program({"show", path("a.dredge"), id_of("storm petrel burrow 7.wav")}).out;
    EXPECT_THAT(whole, AllOf(HasSubstr("━━━━\n"), Not(HasSubstr("××"))));

    const std::string wav = id_of("storm petrel burrow 7.wav");
    EXPECT_THAT(run_program({"show", path("a.dredge"), wav, "--hex", "0x8..0xf"}).out,
                AllOf(HasSubstr("  000008  57 41 56 45 66 6d 74 20 "), HasSubstr("WAVEfmt"), Not(HasSubstr("000010"))));
    expect_one_line(run_program({"show", path("a.dredge"), wav, "--hex", "9..3"}), 2, "9..3 ends before it begins");
    expect_one_line(run_program({"show", path("a.dredge"), wav, "--hex", "99999999.."}), 2, "the file has only");
}

TEST_F(ProgramTest, PreviewShowsWhatCanBePicked) {
    scanned("ringing-station-drive");
    const auto image = test::sha256_of(path("ringing-station-drive.img"));
    const Ran look =
        run_program({"preview", path("a.dredge"), "--kind", "picture", "--limit", "5", "--to", path("look")});
    EXPECT_EQ(look.exit_code, 0) << look.err;
    EXPECT_THAT(look.out,
                AllOf(HasSubstr("5 finds looked at, 5 with a picture, 1 contact sheet. Open "),
                      HasSubstr("look/index.html in a browser."), HasSubstr("more: --limit takes more of them"),
                      HasSubstr("dredger restore " + path("a.dredge") + " --picks picks.csv")));
    EXPECT_TRUE(fs::exists(path("look/sheets/sheet-001.png")));
    EXPECT_FALSE(fs::exists(path("look/sheets/sheet-002.png")));
    EXPECT_EQ(test::sha256_of(path("ringing-station-drive.img")), image) << "the medium is only read";

    // The page's pick list, as its script writes it.
    const auto finds = lines_of(run_program({"list", path("a.dredge"), "--kind", "picture", "--as", "jsonl"}).out);
    test::write_text(path("picks.csv"), "catalog,id,state,prospect,band,kind,format,size,path\r\na.dredge," +
                                            std::to_string(finds.front()["id"].get<int>()) +
                                            ",deleted,99,sound,picture,jpeg,1,x\r\n");
    const Ran restore = run_program({"restore", path("a.dredge"), "--picks", path("picks.csv"), "--to", path("out")});
    EXPECT_EQ(restore.exit_code, 0) << restore.err;
    EXPECT_THAT(restore.out, HasSubstr("1 file and 0 folders selected"));

    const Ran nothing = run_program({"preview", path("a.dredge"), "--name", "*.nothing", "--to", path("none")});
    EXPECT_EQ(nothing.exit_code, 1);
    EXPECT_THAT(nothing.err, HasSubstr("Nothing is selected."));
    EXPECT_FALSE(fs::exists(path("none")));
    fs::rename(path("ringing-station-drive.img"), path("moved.img"));
    expect_one_line(run_program({"preview", path("a.dredge"), "--to", path("none")}), 3, "--source PATH");
    EXPECT_EQ(
        run_program({"preview", path("a.dredge"), "--limit", "1", "--source", path("moved.img"), "--to", path("none")})
            .exit_code,
        0);
    test::write_text(path("file"), "in the way");
    expect_one_line(
        run_program({"preview", path("a.dredge"), "--source", path("moved.img"), "--to", path("file/below")}), 2,
        "the folder for previews can't be made");
}

TEST_F(ProgramTest, ListFindsWhatStandsInFiles) {
    scanned("ringing-station-drive");
    const auto with = [&](const std::string& text, std::vector<std::string> more = {}) {
        std::vector<std::string> words = {"list", path("a.dredge"), "--contains", text};
        words.insert(words.end(), more.begin(), more.end());
        return run_program(words);
    };
    EXPECT_THAT(with("report 2024").out, AllOf(HasSubstr("Season reports/Report 2024.pdf"), HasSubstr("\n1 file, ")));
    const Ran observer = with("OKONKWO", {"--limit", "2"});
    EXPECT_THAT(observer.out, AllOf(HasSubstr("Recoveries 2026.csv"), HasSubstr("Shown: 1 to 2. Go on with --from 3")));
    const auto second = lines_of(with("okonkwo", {"--as", "jsonl", "--from", "2", "--limit", "1"}).out);
    EXPECT_EQ(second.size(), 1U);
    EXPECT_THAT(with("no such thing").err, HasSubstr("Nothing in the catalog is selected."));
    EXPECT_EQ(lines_of(with("okonkwo", {"--as", "jsonl", "--kind", "audio"}).out).size(), 0U);
    EXPECT_THAT(with("okonkwo", {"--group", "kind"}).out, HasSubstr("document\n"));
    expect_one_line(with("x", {"--source", path("nowhere")}), 3, "--source PATH");
}

TEST_F(ProgramTest, ListShowsWhatIsLikeAFind) {
    scanned("ringing-station-drive");
    const auto like = [&](const std::string& name, std::vector<std::string> more = {}) {
        const auto found = lines_of(run_program({"list", path("a.dredge"), "--as", "jsonl", "--name", name}).out);
        std::vector<std::string> words = {"list", path("a.dredge"), "--similar", found.at(0)["id"].dump()};
        words.insert(words.end(), more.begin(), more.end());
        return run_program(words);
    };
    const Ran pictures = like("ledge 01*");
    EXPECT_THAT(pictures.out, AllOf(HasSubstr("HOW ALIKE"), HasSubstr("looks alike, 9"), HasSubstr("ledge 02")));
    EXPECT_THAT(pictures.out, Not(HasSubstr("ledge 01")));
    EXPECT_EQ(lines_of(like("ledge 01*", {"--as", "jsonl", "--limit", "1"}).out).size(), 1U);
    EXPECT_THAT(like("Survey plan.docx").err, HasSubstr("Nothing that is selected is like"));
    EXPECT_THAT(like("ledge 01*", {"--contains", "no such words"}).err, HasSubstr("Nothing that is selected is like"));
    expect_one_line(run_program({"list", path("a.dredge"), "--similar", "9999"}), 2, "no find 9999");
}

TEST_F(ProgramTest, VerifyingReadsWhatTheRecordsTellOf) {
    const std::string drive = unpack("ringing-station-drive");
    const std::vector<std::string> words = {"scan", "--verify", drive, "-c", path("a.dredge")};
    EXPECT_THAT(run_program(words).out, HasSubstr("volume 1: content of 27 files checked"));
    EXPECT_THAT(run_program(words).out, HasSubstr("volume 1: everything is checked already"));
    const auto plan =
        lines_of(run_program({"list", path("a.dredge"), "--as", "jsonl", "--name", "Survey plan.docx"}).out);
    EXPECT_EQ(plan.at(0)["check"], "verified");
}

TEST_F(ProgramTest, WhatIsShownIsCheckedAndStaysSo) {
    scanned("ringing-station-drive");
    const auto plan = [&] {
        return lines_of(run_program({"list", path("a.dredge"), "--as", "jsonl", "--name", "Survey plan.docx"}).out)
            .at(0);
    };
    EXPECT_NE(plan()["check"], "verified");
    EXPECT_THAT(run_program({"show", path("a.dredge"), plan()["id"].dump()}).out,
                HasSubstr("all of its content was checked and agrees"));
    EXPECT_EQ(plan()["check"], "verified");
}

TEST_F(ProgramTest, ADriveWithoutItsPartitionTableIsToldAndRead) {
    const std::string drive = unpack("ringing-station-drive");
    {
        std::fstream out(drive, std::ios::binary | std::ios::in | std::ios::out);
        out << std::string(512, '\0');
    }
    const Ran survey = run_program({"survey", drive});
    EXPECT_EQ(survey.exit_code, 0);
    EXPECT_THAT(survey.out, AllOf(HasSubstr("no partition table"), HasSubstr("Volume 2 is lost: no table tells of it"),
                                  HasSubstr("Next: dredger scan")));
    const Ran scan = run_program({"scan", drive, "-c", path("a.dredge"), "--volume", "2"});
    EXPECT_THAT(scan.out, HasSubstr("lost volume 2 (NTFS OFFICE)"));
    EXPECT_THAT(run_program({"list", path("a.dredge"), "--state", "lost"}).out, HasSubstr("lost"));
    EXPECT_EQ(run_program({"restore", path("a.dredge"), "--state", "lost", "--to", path("out")}).exit_code, 0);
}

TEST_F(ProgramTest, ReportIsWrittenElsewhere) {
    scanned("ringing-station-drive");
    const Ran report = run_program({"report", path("a.dredge"), "--to", path("report")});
    EXPECT_EQ(report.exit_code, 0) << report.err;
    EXPECT_THAT(report.out, HasSubstr("Open " + path("report/report.html") + " in a browser."));
    EXPECT_TRUE(fs::exists(path("report/finds.dfxml")));
    const Ran nothing = run_program({"report", path("a.dredge"), "--name", "puffling.xyz", "--to", path("empty")});
    EXPECT_EQ(nothing.exit_code, 1);
    EXPECT_THAT(nothing.err, HasSubstr("Nothing is selected."));
    EXPECT_FALSE(fs::exists(path("empty")));
    expect_one_line(run_program({"report", path("none.dredge"), "--to", path("report")}), 3, "no such catalog");
    expect_one_line(run_program({"report", path("a.dredge"), "--to", path("ringing-station-drive.img")}), 4,
                    "writing here could destroy");
    expect_one_line(run_program({"report", path("a.dredge"), "--restored", path("none"), "--to", path("report")}), 3,
                    "manifest.csv");
}

TEST_F(ProgramTest, SurveyShowsVolumesAndWhatIsWrongWithThem) {
    EXPECT_EQ(run_program({"survey"}).exit_code, 0);
    const Ran chain = run_program({"survey", unpack("mbr-chain")});
    EXPECT_THAT(chain.out, HasSubstr("LOGICAL2"));
    const std::string floppy = unpack("fat12-floppy");
    EXPECT_THAT(run_program({"survey", floppy}).out, HasSubstr("no partition table"));
    fs::resize_file(floppy, 200'000);
    const Ran cut = run_program({"survey", floppy});
    EXPECT_EQ(cut.exit_code, 0);
    EXPECT_THAT(cut.out, HasSubstr("beyond the end"));
}

TEST_F(ProgramTest, SourcesThatAreNoneEndWithThree) {
    const std::string catalog = path("b.dredge");
    test::write_text(folder_ / "empty.img", "");
    std::string noise;
    for (int i = 0; i < 100; ++i) noise += static_cast<char>(i * 37 + 11);
    test::write_text(folder_ / "noise.img", noise);
    test::write_text(folder_ / "blank.img", std::string(1 << 20, '\0'));
    for (const auto& [source, part] :
         std::vector<std::pair<std::string, std::string>>{{path("missing.img"), "no such file"},
                                                          {folder_.path().string(), "folder"},
                                                          {path("empty.img"), "empty"},
                                                          {path("noise.img"), "no file system"},
                                                          {path("blank.img"), "no file system"}}) {
        expect_one_line(run_program({"scan", source, "-c", catalog}), 3, part);
        EXPECT_FALSE(fs::exists(catalog)) << "a catalog was left behind for " << source;
        EXPECT_EQ(run_program({"survey", source}).exit_code, 3) << source;
    }
    ASSERT_EQ(scanned("fat12-floppy").exit_code, 0);
    expect_one_line(run_program({"scan", path("a.dredge"), "-c", catalog}), 3, "not a medium");
    expect_one_line(run_program({"list", path("noise.img")}), 3, "not a catalog");
    expect_one_line(run_program({"list", path("missing.dredge")}), 3, "no such catalog");
    expect_one_line(run_program({"scan", path("fat12-floppy.img"), "-c", path("noise.img")}), 3, "left alone");
    EXPECT_EQ(test::read_text(folder_ / "noise.img"), noise);
}

TEST_F(ProgramTest, ATruncatedImageGivesWhatItHolds) {
    const std::string image = unpack("fat16-card");
    fs::resize_file(image, 3 << 20);
    const Ran scan = run_program({"scan", image, "-c", path("a.dredge")});
    EXPECT_EQ(scan.exit_code, 0);
    EXPECT_THAT(scan.err, HasSubstr("cut short"));
    EXPECT_THAT(run_program({"list", path("a.dredge")}).out, HasSubstr("NEST0003.JPG"));
}

TEST_F(ProgramTest, AVirtualDiskThatIsCutShortSaysSo) {
    test::unpack_disk_images(folder_.path(), {"ext4-home.qcow2"});
    EXPECT_THAT(run_program({"survey", path("ext4-home.qcow2")}).out, Not(HasSubstr("cut short")));
    fs::resize_file(folder_ / "ext4-home.qcow2", 300 << 10);
    EXPECT_THAT(run_program({"survey", path("ext4-home.qcow2")}).out, HasSubstr("ext4-home.qcow2 is cut short"));
}

TEST_F(ProgramTest, WrongUseEndsWithTwo) {
    ASSERT_EQ(scanned("fat12-floppy").exit_code, 0);
    const std::string catalog = path("a.dredge");
    expect_one_line(run_program({"scan"}), 2, "dredger scan --help");
    expect_one_line(run_program({"fly"}), 2, "dredger --help");
    expect_one_line(run_program({"restore", catalog, "--to", "/proc/nowhere/at/all"}), 2, "can't be made");
    expect_one_line(run_program({"restore", catalog, "--to", path("fat12-floppy.img")}), 4, "source itself");
    expect_one_line(run_program({"restore", catalog, "--to", catalog}), 2, "not a folder");
    expect_one_line(run_program({"scan", path("fat12-floppy.img"), "-c", "/proc/nowhere/a.dredge"}), 2,
                    "can't be written");
    expect_one_line(run_program({"restore", catalog, "--id", "9999", "--to", path("out")}), 2, "there is no find 9999");
    EXPECT_FALSE(fs::exists(path("out")));
}

TEST_F(ProgramTest, HelpShowsExamples) {
    for (const char* command : {"survey", "scan", "list", "show", "restore", "demo"}) {
        const Ran help = run_program({command, "--help"});
        EXPECT_EQ(help.exit_code, 0);
        EXPECT_THAT(help.out, HasSubstr("Examples:\n  dredger")) << command;
    }
}

TEST_F(ProgramTest, ACatalogOnTheMediumIsRefused) {
    const std::string image = unpack("fat12-floppy");
    expect_one_line(run_program({"scan", image, "-c", image}), 4, "could destroy");
    EXPECT_EQ(fs::file_size(image), 1440U * 1024);
}

TEST_F(ProgramTest, AFullDestinationEndsTheRunAndTheRestGoesElsewhere) {
    ASSERT_EQ(scanned("fat16-card").exit_code, 0);
    const fs::path small = folder_ / "small";
    fs::create_directory(small);
    if (::mount("tmpfs", small.c_str(), "tmpfs", 0, "size=160k") != 0) GTEST_SKIP() << "mounting is not allowed here";
    const Ran full = run_program({"restore", path("a.dredge"), "--to", small.string()});
    const Ran rest = run_program({"restore", path("a.dredge"), "--to", path("out"), "--after", small.string()});
    const Ran all = run_program({"restore", path("a.dredge"), "--to", path("all")});
    const auto sums = test::read_text(small / "SHA256SUMS") + test::read_text(folder_ / "out/SHA256SUMS");
    const bool checked = std::system(("cd " + small.string() + " && sha256sum --quiet -c SHA256SUMS").c_str()) == 0;
    ::umount(small.c_str());
    EXPECT_EQ(full.exit_code, 1);
    EXPECT_THAT(full.err, AllOf(HasSubstr("it ends when it is full"), HasSubstr("the destination is full: "),
                                HasSubstr(" remain"), HasSubstr("--after " + small.string())));
    EXPECT_TRUE(checked);
    EXPECT_EQ(rest.exit_code, all.exit_code) << rest.err;
    EXPECT_THAT(rest.out, HasSubstr("already"));
    // Together they have what one run into a larger folder has, each file once.
    std::multiset<std::string> in_parts, in_one;
    const auto gather = [](const std::string& text, std::multiset<std::string>& lines) {
        std::istringstream in(text);
        for (std::string line; std::getline(in, line);) lines.insert(line);
    };
    gather(sums, in_parts);
    gather(test::read_text(folder_ / "all/SHA256SUMS"), in_one);
    EXPECT_EQ(in_parts, in_one);
}

TEST_F(ProgramTest, AFileThatCanNotBeWrittenCostsOnlyItself) {
    ASSERT_EQ(scanned("fat16-card").exit_code, 0);
    // No file may grow beyond 50 KiB: a quota that one of the finds breaks.
    const Ran some =
        run_program({"restore", path("a.dredge"), "--to", path("out")}, {"trap '' XFSZ; ulimit -f 100;", 0, 0});
    EXPECT_EQ(some.exit_code, 1) << some.err;
    EXPECT_THAT(some.out, HasSubstr("failed"));
    EXPECT_FALSE(fs::exists(folder_ / "out/Colony panorama.jpg"));
    EXPECT_FALSE(fs::exists(folder_ / "out/Colony panorama.jpg.unfinished"));
    EXPECT_TRUE(fs::exists(folder_ / "out/Wardens only.csv"));
    EXPECT_THAT(test::read_text(folder_ / "out/manifest.csv"), HasSubstr("failed"));
}

TEST_F(ProgramTest, AnotherMediumIsRefusedUnlessSpelledOut) {
    ASSERT_EQ(scanned("fat12-floppy").exit_code, 0);
    const std::string other = unpack("fat16-card");
    const std::vector<std::string> words = {"restore", path("a.dredge"), "--to", path("out"), "--source", other};
    expect_one_line(run_program(words), 4, "not the medium that was scanned");
    auto spelled_out = words;
    spelled_out.emplace_back("--from-changed-source");
    EXPECT_EQ(run_program(spelled_out).exit_code, 0);
    EXPECT_THAT(test::read_text(folder_ / "out/restore.log"), HasSubstr("overridden with --from-changed-source"));
}

TEST_F(ProgramTest, AnInterruptedScanGoesOn) {
    const std::string image = unpack("fat32-stick");
    ASSERT_EQ(run_program({"scan", image, "-c", path("whole.dredge")}).exit_code, 0);
    const auto listed = [&](const std::string& catalog) {
        std::string out =
            run_program({"list", path(catalog), "--state", "live,deleted", "--as", "jsonl", "--extents"}).out;
        for (auto at = out.find(catalog); at != std::string::npos; at = out.find(catalog))
            out.replace(at, catalog.size(), "X");
        return out;
    };
    const std::string whole = listed("whole.dredge");
    for (int after = 2; after < 60; after += 6) {
        const std::string name = "part" + std::to_string(after) + ".dredge";
        const Ran ran = run_program({"scan", image, "-c", path(name)}, {"", after % 4 == 0 ? SIGKILL : SIGINT, after});
        EXPECT_THAT(ran.exit_code, AnyOf(0, 130, 137));
        EXPECT_EQ(run_program({"scan", image, "-c", path(name)}).exit_code, 0);
        EXPECT_EQ(listed(name), whole) << after;
    }
}

TEST_F(ProgramTest, AnInterruptedDeepScanGoesOn) {
    // Files of many formats over and over, so that it takes a while.
    std::string bed;
    const auto samples = test::samples();
    for (unsigned n = 0; n < 12; ++n)
        for (const auto& [name, content] : samples) {
            if (name.starts_with("iso9660")) continue;
            bed.append(reinterpret_cast<const char*>(content.data()), content.size());
            bed.resize((bed.size() / 512 + 1 + n) * 512);
        }
    test::write_text(folder_ / "bed.img", bed);
    const auto listed = [&](const std::string& catalog) {
        std::string out = run_program({"list", path(catalog), "--as", "jsonl", "--extents"}).out;
        for (auto at = out.find(catalog); at != std::string::npos; at = out.find(catalog))
            out.replace(at, catalog.size(), "X");
        return out;
    };
    ASSERT_EQ(run_program({"scan", "--deep", path("bed.img"), "-c", path("whole.dredge")}).exit_code, 0);
    const std::string whole = listed("whole.dredge");
    EXPECT_EQ(static_cast<std::size_t>(std::count(whole.begin(), whole.end(), '\n')), 12 * (samples.size() - 1));
    unsigned stopped = 0;
    for (int after = 10; after < 700; after += 60) {
        const std::string name = "part" + std::to_string(after) + ".dredge";
        const std::vector<std::string> words = {"scan", "--deep", path("bed.img"), "-c", path(name)};
        const Ran ran = run_program(words, {"", after % 120 == 10 ? SIGKILL : SIGINT, after});
        EXPECT_THAT(ran.exit_code, AnyOf(0, 130, 137));
        stopped += ran.exit_code != 0 ? 1 : 0;
        EXPECT_EQ(run_program(words).exit_code, 0);
        EXPECT_EQ(listed(name), whole) << after;
    }
    EXPECT_GT(stopped, 0U);
}

TEST_F(ProgramTest, ADeepScanFindsAndRestoresWhatNoRecordTellsOf) {
    const std::string image = unpack("ringing-station-drive");
    const Ran scan = run_program({"scan", "--deep", image, "-c", path("a.dredge")});
    ASSERT_EQ(scan.exit_code, 0) << scan.err;
    EXPECT_THAT(scan.out, HasSubstr("outside the volumes, at 88.0 MiB: searched 4.0 MiB: 8 files without a record"));
    const Ran restored = run_program({"restore", path("a.dredge"), "--origin", "signature", "--to", path("out")});
    EXPECT_EQ(restored.exit_code, 1) << "not all of them are proven";
    std::set<std::string> sums;
    for (const auto& entry : fs::recursive_directory_iterator(folder_ / "out"))
        if (entry.is_regular_file()) sums.insert(test::sha256_of(entry.path()));
    const auto truth = test::truth_of("ringing-station-drive");
    for (const auto& file : truth["files"]) {
        if (file["state"] == "lost") {
            EXPECT_TRUE(sums.contains(file["sha256"])) << file["path"];
        }
    }
}

TEST_F(ProgramTest, DeepScansCanBeNarrowed) {
    const std::string image = unpack("ringing-station-drive");
    const auto count = [&](std::vector<std::string> words) {
        const std::string catalog = path(std::to_string(words.size()) + words.back() + ".dredge");
        words.insert(words.begin(), {"scan", "--deep", image, "-c", catalog});
        EXPECT_EQ(run_program(words).exit_code, 0);
        return lines_of(run_program({"list", catalog, "--origin", "signature", "--as", "jsonl"}).out).size();
    };
    EXPECT_EQ(count({"--format", "jpeg"}), 2U);
    EXPECT_EQ(count({"--kind", "mail"}), 1U);
    expect_one_line(run_program({"scan", "--quick", "--deep", image, "-c", path("x.dredge")}), 2, "--quick");
    expect_one_line(run_program({"scan", "--deep", image, "--format", "nest", "-c", path("x.dredge")}), 2, "nest");
    expect_one_line(run_program({"scan", "--deep", image, "--own-formats", path("none.toml"), "-c", path("x.dredge")}),
                    2, "no such file");
}

TEST_F(ProgramTest, TheFormatsAreListed) {
    const Ran ran = run_program({"kinds"});
    EXPECT_EQ(ran.exit_code, 0);
    for (const char* format : {"jpeg", "docx", "mp4", "sqlite", "mbox", "cr3"}) EXPECT_THAT(ran.out, HasSubstr(format));
    EXPECT_GT(std::count(ran.out.begin(), ran.out.end(), '\n'), 90);
    test::write_text(folder_ / "own.toml", "[[format]]\nname = 'nestlog'\nsignature = 'NESTLOG1'\nmost-bytes = 100\n");
    EXPECT_THAT(run_program({"kinds", "--own-formats", path("own.toml")}).out, HasSubstr("nestlog"));
}

TEST_F(ProgramTest, AnInterruptedRestoreLeavesNoHalfFileUnderItsName) {
    ASSERT_EQ(scanned("fat32-stick").exit_code, 0);
    std::map<std::string, std::string> sums;
    const auto truth = test::truth_of("fat32-stick");
    for (const auto& file : truth["files"])
        if (!file["directory"]) sums[file["path"]] = file["sha256"];
    for (int after = 4; after < 120; after += 12) {
        const bool kill = after % 8 == 0;
        const std::string out = "out" + std::to_string(after);
        const Ran ran =
            run_program({"restore", path("a.dredge"), "--to", path(out)}, {"", kill ? SIGKILL : SIGINT, after});
        EXPECT_THAT(ran.exit_code, AnyOf(0, 130, 137));
        for (const auto& entry : fs::exists(folder_ / out) ? fs::recursive_directory_iterator(folder_ / out)
                                                           : fs::recursive_directory_iterator()) {
            const std::string name = entry.path().lexically_relative(folder_ / out).generic_string();
            if (!entry.is_regular_file() || !sums.contains(name)) {
                EXPECT_TRUE(kill || entry.path().extension() != ".unfinished") << name;
                continue;
            }
            EXPECT_EQ(test::sha256_of(entry.path()), sums[name]) << name << " after " << after;
        }
        const Ran again = run_program({"restore", path("a.dredge"), "--to", path(out)});
        EXPECT_EQ(again.exit_code, 0) << again.err;
        const auto manifest = parse_csv(test::read_text(folder_ / out / "manifest.csv")).value();
        for (const auto& row : manifest)
            if (row.at("sha256") != "") {
                EXPECT_EQ(row.at("sha256"), sums[row.at("original_path")]);
            }
    }
}

TEST_F(ProgramTest, TheDemoRunsToItsEnd) {
    const Ran demo = run_program({"demo", "--to", path("demo")});
    EXPECT_EQ(demo.exit_code, 0) << demo.err;
    EXPECT_THAT(demo.out, HasSubstr("DCIM/100NESTS/NEST0002.JPG"));
    EXPECT_THAT(demo.out, HasSubstr("is overwritten by"));
    EXPECT_THAT(demo.out, HasSubstr("Season reports/Report 2020.pdf"));
    EXPECT_THAT(demo.out, HasSubstr("Re_ lost ring SK441207.eml"));
    EXPECT_TRUE(fs::exists(folder_ / "demo/restored/SHA256SUMS"));
    EXPECT_THAT(demo.out, HasSubstr("volume 1 (HFS+ Wardens Mac): 8 deleted and 19 live records"));
    EXPECT_THAT(demo.out, HasSubstr("Crossing/Tide table.csv"));
    EXPECT_THAT(demo.out, HasSubstr("with the setup of Nest camera, sound film.mp4"));
    EXPECT_TRUE(fs::exists(folder_ / "demo/mended/Nest camera, battery empty.mp4"));
    EXPECT_THAT(demo.out, Not(HasSubstr("failed")));
}

}  // namespace
}  // namespace dredger
