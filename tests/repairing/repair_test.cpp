#include "repairing/repair.h"

#include <gmock/gmock.h>

#include "base/csv.h"
#include "repairing/mended.h"

namespace dredger::test {
namespace {

namespace fs = std::filesystem;
using repairing::Outcome;
using testing::ElementsAre;
using testing::HasSubstr;

class Keeper final : public RepairObserver {
  public:
    void progress(const Progress&) override {}
    void warning(const std::string& sentence) override { warnings.push_back(sentence); }
    bool should_stop() override { return items.size() >= stop_after; }
    void item(const RepairedItem& item) override { items.push_back(item); }
    std::vector<RepairedItem> items;
    std::vector<std::string> warnings;
    std::size_t stop_after = 1000;
};

void write(const fs::path& file, const Bytes& bytes) {
    fs::create_directories(file.parent_path());
    write_text(file, std::string_view(reinterpret_cast<const char*>(bytes.data()), bytes.size()));
}

class RepairTest : public testing::Test {
  protected:
    RepairTest() {
        const Bytes& archive = sample("zip-plain.zip");
        write(folder / "in" / "a" / "logs.zip", cut(archive, place_of(archive, "PK\1\2")));
        write(folder / "in" / "b" / "logs.zip", archive);
        write(folder / "in" / "notes.txt", bytes_of("terns"));
        write(folder / "in" / "nest.jpg", zeroed(sample("jpeg-baseline.jpg"), 0, 20));
    }
    RepairReport run(const RepairRequest& request) {
        const auto done = repair(request, keeper);
        EXPECT_TRUE(done.has_value()) << done.error().line();
        return done.value_or(RepairReport());
    }
    std::vector<std::map<std::string, std::string>> table() {
        return parse_csv(read_text(folder / "out" / "repairs.csv")).value();
    }

    TempFolder folder;
    Keeper keeper;
};

TEST_F(RepairTest, AFolderIsMendedIntoAnotherWithATable) {
    const std::string before = sha256_of(folder / "in/nest.jpg");
    const RepairReport report = run({{folder / "in"}, {}, {}, folder / "out"});
    EXPECT_EQ(report.files, 3U);
    EXPECT_EQ(report.left_out, 1U);
    EXPECT_EQ(report.count(Outcome::mended), 2U);
    EXPECT_EQ(report.count(Outcome::whole), 1U);
    const auto rows = table();
    ASSERT_EQ(rows.size(), 3U);
    EXPECT_EQ(rows[0].at("result"), "a/logs.zip");
    EXPECT_EQ(rows[0].at("outcome"), "mended");
    EXPECT_EQ(rows[0].at("unit"), "entries");
    EXPECT_EQ(rows[0].at("sha256"), sha256_of(folder / "out/a/logs.zip"));
    EXPECT_EQ(rows[1].at("outcome"), "whole");
    EXPECT_EQ(sha256_of(folder / "out/b/logs.zip"), sha256_of(folder / "in/b/logs.zip"));
    EXPECT_EQ(sha256_of(folder / "in/nest.jpg"), before);
}

TEST_F(RepairTest, NamesThatMeetAreNumbered) {
    run({{folder / "in/a/logs.zip", folder / "in/b/logs.zip"}, {}, {}, folder / "out"});
    EXPECT_TRUE(fs::exists(folder / "out/logs.zip"));
    EXPECT_TRUE(fs::exists(folder / "out/logs (2).zip"));
}

TEST_F(RepairTest, StoppedItGoesOnAndRepeatsNothing) {
    keeper.stop_after = 1;
    const RepairRequest request{{folder / "in"}, {}, {}, folder / "out"};
    EXPECT_TRUE(run(request).interrupted);
    EXPECT_EQ(table().size(), 1U);
    keeper.stop_after = 1000;
    const RepairReport second = run(request);
    EXPECT_EQ(second.already, 1U);
    EXPECT_EQ(second.files, 2U);
    EXPECT_EQ(table().size(), 3U);
    EXPECT_FALSE(fs::exists(folder / "out/a/logs (2).zip"));
}

TEST_F(RepairTest, WhatWasIncompleteIsTriedAgain) {
    const Bytes& film = sample("mp4-last.mp4");
    write(folder / "in/boat.mp4", cut(film, place_of(film, "moov") - 4));
    write(folder / "reference.mp4", film);
    run({{folder / "in/boat.mp4"}, {}, {}, folder / "out"});
    EXPECT_EQ(table().at(0).at("outcome"), "wants a reference");
    run({{folder / "in/boat.mp4"}, {}, {folder / "reference.mp4"}, folder / "out"});
    const auto rows = table();
    ASSERT_EQ(rows.size(), 1U);
    EXPECT_EQ(rows[0].at("outcome"), "mended");
}

TEST_F(RepairTest, WholeFilesAmongTheOthersAreReferences) {
    const Bytes& film = sample("mp4-last.mp4");
    write(folder / "in/boat.mp4", cut(film, place_of(film, "moov") - 4));
    write(folder / "in/earlier.mp4", film);
    const RepairReport report = run({{folder / "in"}, {}, {}, folder / "out"});
    EXPECT_EQ(report.count(Outcome::wants_reference), 0U);
    EXPECT_EQ(report.files, 5U);
    EXPECT_EQ(table().size(), 5U);
    const RepairedItem& last = keeper.items.back();
    EXPECT_EQ(last.outcome, Outcome::mended);
    EXPECT_THAT(last.what, HasSubstr("with the setup of earlier.mp4"));
}

TEST_F(RepairTest, APageShowsThemBeforeAndAfter) {
    const RepairReport report = run({{folder / "in/nest.jpg"}, {}, {}, folder / "out", folder / "look"});
    const std::string page = read_text(report.page);
    EXPECT_THAT(page, HasSubstr("tiles/2.png"));
    EXPECT_THAT(page, HasSubstr("nest.jpg"));
    EXPECT_TRUE(fs::exists(folder / "look/tiles/2.png"));
}

TEST_F(RepairTest, ResultsNeverLieAmongTheDamaged) {
    for (const fs::path& to : {folder / "in", folder / "in/out"}) {
        const auto done = repair({{folder / "in"}, {}, {}, to}, keeper);
        ASSERT_FALSE(done.has_value());
        EXPECT_EQ(done.error().kind, ErrorKind::unsafe);
    }
    EXPECT_FALSE(fs::exists(folder / "in/out"));
}

TEST_F(RepairTest, NorDoesThePageLieAmongThem) {
    const auto done = repair({{folder / "in"}, {}, {}, folder / "out", folder / "in/look"}, keeper);
    ASSERT_FALSE(done.has_value());
    EXPECT_EQ(done.error().kind, ErrorKind::unsafe);
    EXPECT_THAT(done.error().hint, HasSubstr("--look"));
    EXPECT_FALSE(fs::exists(folder / "in/look"));
}

TEST_F(RepairTest, TriedAgainWithNothingNewItKeepsItsResult) {
    const Bytes& photo = sample("jpeg-baseline.jpg");
    write(folder / "in/cut.jpg", cut(photo, photo.size() * 2 / 3));
    const RepairRequest request{{folder / "in/cut.jpg"}, {}, {}, folder / "out"};
    run(request);
    ASSERT_EQ(table().at(0).at("outcome"), "partly");
    const RepairReport second = run(request);
    EXPECT_EQ(second.count(Outcome::partly), 1U);
    ASSERT_EQ(table().size(), 1U);
    EXPECT_EQ(table()[0].at("result"), "cut.jpg");
    EXPECT_FALSE(fs::exists(folder / "out/cut (2).jpg"));
}

TEST_F(RepairTest, AnEmptyFileIsLeftOutAndTheOthersAreMended) {
    write(folder / "in/empty.jpg", {});
    const RepairReport report = run({{folder / "in/empty.jpg", folder / "in/a/logs.zip"}, {}, {}, folder / "out"});
    EXPECT_THAT(report.missing, ElementsAre(HasSubstr("empty.jpg is empty")));
    EXPECT_EQ(report.count(Outcome::mended), 1U);
}

TEST_F(RepairTest, WhatCantBeWrittenStopsItWithWhatWasDone) {
    write(folder / "out/b", bytes_of("a file where a folder should be"));
    const RepairReport report = run({{folder / "in"}, {}, {}, folder / "out"});
    ASSERT_TRUE(report.stopped.has_value());
    EXPECT_EQ(report.stopped->kind, ErrorKind::output);
    EXPECT_EQ(report.stopped->where, (folder / "out/b/logs.zip").string());
    EXPECT_EQ(report.files, 1U);
    ASSERT_EQ(table().size(), 1U);
    EXPECT_EQ(table()[0].at("result"), "a/logs.zip");
}

TEST_F(RepairTest, AFileOfNoKnownFormatIsToldOf) {
    run({{folder / "in/notes.txt"}, {}, {}, folder / "out"});
    EXPECT_EQ(table().at(0).at("outcome"), "beyond");
    EXPECT_THAT(table().at(0).at("what"), HasSubstr("no format that can be repaired"));
}

TEST(Menders, EachFormatHasOneAndIsKnown) {
    std::set<std::string_view> seen;
    for (const repairing::Mender* mender : repairing::all_menders())
        for (const std::string_view format : mender->formats) {
            EXPECT_TRUE(seen.insert(format).second) << format;
            EXPECT_NE(format_named(format), nullptr) << format;
        }
}

TEST(Menders, TheNameIsNotBelievedAgainstTheContent) {
    const repairing::Damaged file{std::make_shared<MemoryMedium>(sample("jpeg-baseline.jpg")), "letter.docx", {}};
    EXPECT_EQ(repairing::mender_for(file), repairing::mender_of("jpeg"));
    const repairing::Damaged headless{
        std::make_shared<MemoryMedium>(zeroed(sample("zip-plain.zip"), 0, 40)), "unnamed", {}};
    EXPECT_EQ(repairing::mender_for(headless), repairing::mender_of("zip"));
}

TEST(Holes, AreWhatCannotBeReadToo) {
    const auto scratched = std::make_shared<MemoryMedium>(Bytes(4096, std::byte{7}));
    scratched->make_unreadable({1000, 200});
    repairing::Damaged file{scratched, "log.zip", {{3000, 96}}};
    ASSERT_TRUE(file.find_holes([] { return false; }).has_value());
    EXPECT_THAT(file.holes, ElementsAre(Extent{1000, 200}, Extent{3000, 96}));
    std::vector<Extent> bad;
    std::vector<std::byte> read(4096);
    ASSERT_TRUE(file.content->read(0, read, &bad).has_value());
    EXPECT_TRUE(bad.empty());
    EXPECT_EQ(read[1000], std::byte{0});
    EXPECT_EQ(read[999], std::byte{7});
    EXPECT_EQ(read[3095], std::byte{0});
    EXPECT_TRUE(file.touches_hole(900, 101));
    EXPECT_FALSE(file.touches_hole(1200, 1800));
    EXPECT_EQ(file.find_holes([] { return true; }).error().kind, ErrorKind::interrupted);
}

}  // namespace
}  // namespace dredger::test
