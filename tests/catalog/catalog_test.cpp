#include "catalog/catalog.h"

#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sqlite3.h>

#include "support/support.h"
#include "support/walked.h"

namespace dredger {
namespace {

using test::TempFolder;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;

Candidate candidate(const std::string& folder, const std::string& name, int prospect, State state = State::deleted) {
    Candidate c;
    c.volume = 1;
    c.record.identity.number = 4096;
    c.record.folder = folder;
    c.record.name = name;
    c.record.state = state;
    c.record.size = 1000;
    c.record.modified = FileTime{parse_time("2026-05-03")->first, 530'000'000, FileTime::Clock::local};
    c.record.attributes = {"read-only"};
    c.record.changed = FileTime{parse_time("2026-05-04")->first, 100, FileTime::Clock::local};
    c.record.facts = {{"account", "S-1-5-21-7"}, {"original place", "E:\\Logs: old\\terns.csv"}};
    c.layout.extents = {{8192, 600}, Extent::unknown(100), Extent::zeros(50), {16384, 250}};
    c.layout.codec = Codec::lznt1;
    c.layout.unit = 65'536;
    c.layout.within_records = true;
    c.kind = kind_of_name(name);
    if (const Format* format = format_with_extension(extension_of(name))) c.format = format->name;
    c.prospect = {prospect, prospect > 80 ? Band::sound : Band::patchy, Check::plausible, {"because \"so\""}};
    return c;
}

class CatalogTest : public testing::Test {
  protected:
    void SetUp() override {
        auto opened = Catalog::open_for_scan(folder_ / "card.dredge");
        ASSERT_TRUE(opened) << opened.error().line();
        catalog_ = std::make_unique<Catalog>(std::move(*opened));
        ASSERT_TRUE(catalog_->add_source({0, "/images/card.img", {64 << 20, "RS-1", {"a", "b"}}}));
        ScannedVolume volume;
        volume.source = 1;
        volume.place = {1, 1 << 20, 63 << 20, TableKind::mbr, "FAT32", "", 0};
        volume.facts = {"FAT32", "RINGCARD", "5EA8-1D01", 512, 63 << 20, 4096, {"odd"}};
        ASSERT_TRUE(catalog_->add_volume(volume));
    }
    // Under the next free id, which it returns; 0 where that failed.
    std::int64_t add(Candidate c) {
        c.id = catalog_->next_id().value_or(0);
        return catalog_->add(c) ? c.id : 0;
    }
    std::vector<std::string> listed(const Selection& selection, const Order& order = {}) const {
        std::vector<std::string> names;
        EXPECT_TRUE(catalog_->each(selection, order, false, [&](const Candidate& c) {
            names.push_back(c.record.name);
            return true;
        }));
        return names;
    }

    TempFolder folder_;
    std::unique_ptr<Catalog> catalog_;
};

TEST_F(CatalogTest, GivesBackWhatItWasGiven) {
    const Candidate given = candidate("DCIM/100NESTS", "NEST0001.JPG", 95);
    const auto id = add(given);
    const auto found = catalog_->find(id).value();
    ASSERT_TRUE(found);
    EXPECT_EQ(found->record.path(), "DCIM/100NESTS/NEST0001.JPG");
    EXPECT_EQ(found->record.modified, given.record.modified);
    EXPECT_EQ(found->record.modified->clock, FileTime::Clock::local);
    EXPECT_FALSE(found->record.created);
    EXPECT_EQ(found->layout, given.layout);
    EXPECT_EQ(found->record.attributes, given.record.attributes);
    EXPECT_EQ(found->record.facts, given.record.facts);
    EXPECT_EQ(found->record.changed, given.record.changed);
    EXPECT_EQ(found->prospect.reasons, given.prospect.reasons);
    EXPECT_EQ(found->format, "jpeg");
    EXPECT_FALSE(catalog_->find(99).value());
    EXPECT_EQ(catalog_->name_of(id), "DCIM/100NESTS/NEST0001.JPG (written 2026-05-03 00:00)");
    EXPECT_EQ(catalog_->name_of(99), "");
}

TEST_F(CatalogTest, KeepsSourcesAndVolumes) {
    const auto sources = catalog_->sources().value();
    ASSERT_EQ(sources.size(), 1U);
    EXPECT_EQ(sources[0].identity.serial, "RS-1");
    EXPECT_THAT(sources[0].identity.samples, ElementsAre("a", "b"));
    auto volumes = catalog_->volumes().value();
    ASSERT_EQ(volumes.size(), 1U);
    EXPECT_EQ(volumes[0].facts.label, "RINGCARD");
    EXPECT_THAT(volumes[0].facts.warnings, ElementsAre("odd"));
    EXPECT_FALSE(volumes[0].done);
    ASSERT_TRUE(catalog_->finish_volume(volumes[0]));
    EXPECT_TRUE(catalog_->volumes().value()[0].done);
}

TEST_F(CatalogTest, ListsTheBestFirst) {
    ASSERT_GT(add(candidate("b", "low.jpg", 10)), 0);
    ASSERT_GT(add(candidate("b", "high.jpg", 90)), 0);
    ASSERT_GT(add(candidate("a", "live.jpg", 100, State::live)), 0);
    EXPECT_THAT(listed({}), ElementsAre("high.jpg", "low.jpg"));
    EXPECT_THAT(listed({}, Order{Order::By::path}), ElementsAre("high.jpg", "low.jpg"));
    Selection all;
    all.states = {};
    EXPECT_EQ(catalog_->count(all).value(), 3);
}

TEST_F(CatalogTest, SelectsByTheWholeGrammar) {
    ASSERT_GT(add(candidate("Gannet survey/Photos", "Ledge 01.JPG", 95)), 0);
    ASSERT_GT(add(candidate("Gannet survey", "plan.docx", 50)), 0);
    ASSERT_GT(add(candidate("Calls", "Ätna.wav", 20)), 0);
    const auto with = [&](auto change) {
        Selection s;
        change(s);
        return listed(s);
    };
    EXPECT_THAT(with([](Selection& s) { s.kinds = {Kind::picture}; }), ElementsAre("Ledge 01.JPG"));
    EXPECT_THAT(with([](Selection& s) { s.formats = {"docx"}; }), ElementsAre("plan.docx"));
    EXPECT_THAT(with([](Selection& s) { s.extensions = {"jpg", "wav"}; }), ElementsAre("Ledge 01.JPG", "Ätna.wav"));
    EXPECT_THAT(with([](Selection& s) { s.names = {"ledge*"}; }), ElementsAre("Ledge 01.JPG"));
    EXPECT_THAT(with([](Selection& s) { s.names = {"ätna.w?v"}; }), ElementsAre("Ätna.wav"));
    EXPECT_THAT(with([](Selection& s) { s.folders = folder_globs("/gannet survey/"); }),
                ElementsAre("Ledge 01.JPG", "plan.docx"));
    EXPECT_THAT(with([](Selection& s) { s.folders = {"*photos"}; }), ElementsAre("Ledge 01.JPG"));
    EXPECT_THAT(with([](Selection& s) { s.ids = {{1, 1}, {3, 3}}; }), ElementsAre("Ledge 01.JPG", "Ätna.wav"));
    EXPECT_THAT(with([](Selection& s) { s.prospect = {40, 60}; }), ElementsAre("plan.docx"));
    EXPECT_THAT(with([](Selection& s) { s.size = {1001, {}}; }), IsEmpty());
    EXPECT_THAT(with([](Selection& s) { s.modified = parse_times("2026-05-04..").value(); }), IsEmpty());
    EXPECT_EQ(with([](Selection& s) { s.modified = parse_times("2026-05").value(); }).size(), 3U);
    EXPECT_THAT(with([](Selection& s) { s.deleted = parse_times("1990..").value(); }), IsEmpty());
    EXPECT_THAT(with([](Selection& s) { s.origins = {Origin::remnant}; }), IsEmpty());
    EXPECT_EQ(with([](Selection& s) { s.checks = {Check::plausible}; }).size(), 3U);
    EXPECT_THAT(with([](Selection& s) { s.names = {"x'; DROP TABLE candidates; --"}; }), IsEmpty());
    EXPECT_EQ(listed({}).size(), 3U);
}

TEST_F(CatalogTest, TellsWhoSharesBytes) {
    Candidate other = candidate("b", "newer.jpg", 100, State::live);
    other.layout.extents = {{8500, 1000}};
    Candidate third = candidate("c", "across.jpg", 10);
    third.layout.extents = {{16000, 500}};
    Candidate apart = candidate("d", "apart.jpg", 10);
    apart.layout.extents = {{9500, 100}, Extent::unknown(100)};
    Candidate elsewhere = other;
    elsewhere.volume = 2;
    const auto older = add(candidate("a", "older.jpg", 10));
    for (const Candidate& c : {third, other, elsewhere}) ASSERT_GT(add(c), 0);
    const auto lonely = add(apart);
    const auto overlaps = catalog_->overlapping(*catalog_->find(older).value()).value();
    ASSERT_EQ(overlaps.size(), 2U);
    EXPECT_EQ(overlaps[0].path, "b/newer.jpg") << "what is live comes first";
    EXPECT_EQ(overlaps[0].piece, 0U);
    EXPECT_EQ(overlaps[0].shared, (Extent{8500, 292}));
    EXPECT_EQ(overlaps[1].path, "c/across.jpg");
    EXPECT_EQ(overlaps[1].piece, 3U);
    EXPECT_EQ(overlaps[1].shared, (Extent{16384, 116}));
    EXPECT_TRUE(catalog_->overlapping(*catalog_->find(lonely).value()).value().empty());
}

TEST_F(CatalogTest, TellsWhatHasTheSameName) {
    const auto log = add(candidate("Logs", "terns.csv", 90));
    const auto earlier = add(candidate("Logs", "terns.csv", 10));
    Candidate of_file = candidate("Logs", "terns.csv", 90);
    of_file.record.name_stream("note");
    const auto stream = add(of_file);
    for (const char* name : {"terns.csv2", "Terns.csv", "terns.cs"}) ASSERT_GT(add(candidate("Logs", name, 90)), 0);
    ASSERT_GT(add(candidate("Calls", "terns.csv", 90)), 0);
    ASSERT_GT(add(candidate("Logs", "terns.csv", 100, State::live)), 0);
    const auto others = [&](std::int64_t id) {
        std::vector<std::int64_t> ids;
        const auto same = catalog_->of_same_name(*catalog_->find(id).value()).value();
        for (const Candidate& c : same) ids.push_back(c.id);
        return ids;
    };
    EXPECT_THAT(others(log), ElementsAre(earlier, stream));
    EXPECT_THAT(others(stream), ElementsAre(log, earlier));
}

TEST_F(CatalogTest, AnUnfinishedVolumeCanBeTakenBack) {
    ASSERT_TRUE(catalog_->begin());
    ASSERT_GT(add(candidate("a", "x.jpg", 10)), 0);
    ASSERT_TRUE(catalog_->remove_volume(1));
    ASSERT_TRUE(catalog_->commit());
    EXPECT_TRUE(catalog_->volumes().value().empty());
    EXPECT_THAT(listed({}), IsEmpty());
}

TEST_F(CatalogTest, CanBeReadWhileItIsWritten) {
    ASSERT_GT(add(candidate("a", "first.jpg", 10)), 0);
    ASSERT_TRUE(catalog_->begin());
    ASSERT_GT(add(candidate("a", "second.jpg", 10)), 0);
    const auto reader = Catalog::open(folder_ / "card.dredge");
    ASSERT_TRUE(reader) << reader.error().line();
    EXPECT_EQ(reader->count({}).value(), 1);
    ASSERT_TRUE(catalog_->commit());
    EXPECT_EQ(reader->count({}).value(), 2);
}

TEST(CatalogFile, WhatIsNoCatalogIsAClearError) {
    const TempFolder folder;
    test::write_text(folder / "text.dredge", "this is not a database, but long enough to be looked at");
    EXPECT_THAT(Catalog::open(folder / "missing").error().line(), HasSubstr("no such catalog"));
    EXPECT_THAT(Catalog::open(folder.path()).error().line(), HasSubstr("not a catalog"));
    EXPECT_THAT(Catalog::open(folder / "text.dredge").error().line(), HasSubstr("not a catalog"));
    EXPECT_THAT(Catalog::open_for_scan(folder / "text.dredge").error().line(), HasSubstr("left alone"));
    EXPECT_EQ(test::read_text(folder / "text.dredge").substr(0, 7), "this is");
}

TEST(CatalogFile, AnotherProgramsDatabaseIsNotTouched) {
    const TempFolder folder;
    sqlite3* handle = nullptr;
    ASSERT_EQ(sqlite3_open((folder / "other.db").c_str(), &handle), SQLITE_OK);
    sqlite3_exec(handle, "CREATE TABLE rings (number TEXT)", nullptr, nullptr, nullptr);
    sqlite3_close(handle);
    EXPECT_THAT(Catalog::open(folder / "other.db").error().line(), HasSubstr("not a catalog"));
    EXPECT_THAT(Catalog::open_for_scan(folder / "other.db").error().line(), HasSubstr("not a catalog"));
}

TEST(CatalogFile, ANewerVersionIsAClearError) {
    const TempFolder folder;
    { ASSERT_TRUE(Catalog::open_for_scan(folder / "a.dredge")); }
    sqlite3* handle = nullptr;
    ASSERT_EQ(sqlite3_open((folder / "a.dredge").c_str(), &handle), SQLITE_OK);
    sqlite3_exec(handle, "PRAGMA user_version=99", nullptr, nullptr, nullptr);
    sqlite3_close(handle);
    EXPECT_THAT(Catalog::open(folder / "a.dredge").error().line(), HasSubstr("version 99"));
    EXPECT_THAT(Catalog::open(folder / "a.dredge").error().line(), HasSubstr("newer dredger"));
}

TEST(Selection, ReadsOffsets) {
    EXPECT_EQ(parse_offsets("0x200..0x3ff")->from, 512);
    EXPECT_EQ(parse_offsets("0X200..0x3FF")->to, 1023);
    EXPECT_EQ(parse_offsets("4096..")->from, 4096);
    EXPECT_FALSE(parse_offsets("4096..")->to);
    for (const char* wrong : {"", "..", "0x", "0xzz", "-4..", "9..8", "1..2..3"})
        EXPECT_FALSE(parse_offsets(wrong)) << wrong;
}

TEST(SelectionWords, AreReadOrExplained) {
    EXPECT_THAT(parse_states("deleted, live").value(), ElementsAre(State::live, State::deleted));
    EXPECT_THAT(parse_states("dead").error().line(), HasSubstr("choose from live, deleted, trashed, lost"));
    EXPECT_EQ(parse_sizes("10K..2M")->from, 10'240);
    EXPECT_EQ(parse_sizes("10K..2M")->to, 2'097'152);
    EXPECT_EQ(parse_sizes("..5")->from, std::nullopt);
    EXPECT_EQ(parse_sizes("1GB")->to, 1 << 30);
    for (const char* wrong : {"", "..", "ten", "-5..", "99999999999P", "5..x"})
        EXPECT_FALSE(parse_sizes(wrong)) << wrong;
    EXPECT_EQ(parse_ids("7,12-40")->size(), 2U);
    for (const char* wrong : {"", "a", "9-2", "3-"}) EXPECT_FALSE(parse_ids(wrong)) << wrong;
    EXPECT_THAT(parse_words(".JPG, docx"), ElementsAre("jpg", "docx"));
    EXPECT_FALSE(parse_formats("jpeg,nothing"));
    EXPECT_EQ(parse_times("2026-05")->to.value() - parse_times("2026-05")->from.value(), 31 * 86'400 - 1);
}

TEST_F(CatalogTest, KeepsHowFarADeepScanIs) {
    ASSERT_TRUE(catalog_->sweep_of(1));
    EXPECT_FALSE(*catalog_->sweep_of(1));
    ASSERT_TRUE(catalog_->save_sweep({1, "{}", 12, 4 << 20, 9 << 20, "state", "[]", false}));
    ASSERT_TRUE(catalog_->save_sweep({1, "{}", 40, 8 << 20, 9 << 20, "later", "[1]", true}));
    const Sweep sweep = catalog_->sweep_of(1)->value();
    EXPECT_EQ(sweep.checked, 40);
    EXPECT_EQ(sweep.position, 8U << 20);
    EXPECT_EQ(sweep.total, 9U << 20);
    EXPECT_EQ(sweep.state, "later");
    EXPECT_EQ(sweep.traces, "[1]");
    EXPECT_TRUE(sweep.done);
    ASSERT_TRUE(catalog_->remove_volume(1));
    EXPECT_FALSE(*catalog_->sweep_of(1));
}

TEST_F(CatalogTest, FindsCandidatesByWhereTheyBegin) {
    const auto first = add(candidate("", "nest.jpg", 90));
    Candidate live = candidate("", "live.jpg", 90, State::live);
    add(live);
    Candidate other = candidate("", "other.jpg", 90);
    other.layout.extents = {{16384, 250}, {8192, 600}};
    add(other);
    const auto there = catalog_->beginning_at(1, 8192);
    ASSERT_TRUE(there);
    ASSERT_EQ(there->size(), 1U) << "neither live ones nor later pieces";
    EXPECT_EQ(there->front().id, first);
    EXPECT_EQ(there->front().layout.extents.size(), 4U);
    EXPECT_TRUE(catalog_->beginning_at(2, 8192)->empty()) << "another volume";
}

TEST_F(CatalogTest, TellsWhichFileHoldsAPlace) {
    Candidate image = candidate("Backups", "card.img", 99);
    image.layout = {};
    image.layout.extents = {{1 << 20, 4 << 20}};
    image.record.size = 4 << 20;
    add(image);
    EXPECT_EQ(catalog_->path_of_holder(1, {2 << 20, 1 << 20}).value(), "Backups/card.img");
    EXPECT_EQ(catalog_->path_of_holder(1, {2 << 20, 8 << 20}).value(), "") << "more than it has";
    EXPECT_EQ(catalog_->path_of_holder(1, {8 << 20, 1 << 20}).value(), "");
    EXPECT_EQ(catalog_->path_of_holder(2, {2 << 20, 1 << 20}).value(), "") << "of another medium";
}

TEST_F(CatalogTest, TakesBackSingleFindsByContentOnly) {
    Candidate find = candidate("", "unnamed-picture-1.jpg", 90);
    find.record.origin = Origin::signature;
    const std::int64_t by_content = add(find), by_record = add(candidate("Logs", "terns.csv", 99));
    ASSERT_TRUE(catalog_->remove_finds(std::vector<std::int64_t>{by_content, by_record}));
    EXPECT_FALSE(catalog_->find(by_content)->has_value());
    EXPECT_TRUE(catalog_->find(by_record)->has_value());
}

TEST_F(CatalogTest, KeepsHowExtentsArePackedAndTheirSums) {
    Candidate packed = candidate("Logs", "tide.txt", 40);
    packed.layout.extents = {{4096, 500}, Extent::zeros(100)};
    packed.layout.codec = Codec::each;
    packed.layout.extents.front().pack = {Pack::Method::lzo, 512, 8192, 4096};
    packed.layout.sums = {7, 0xFFFFFFFF};
    packed.layout.sum_unit = 4096;
    packed.id = add(packed);
    EXPECT_EQ(catalog_->find(packed.id)->value().layout, packed.layout);
    // Replaced as a whole.
    packed.layout.extents.pop_back();
    packed.layout.sums = {8};
    ASSERT_TRUE(catalog_->update(packed));
    EXPECT_EQ(catalog_->find(packed.id)->value().layout, packed.layout);
}

TEST_F(CatalogTest, WhatIsKnownBetterReplacesWhatWas) {
    Candidate known = candidate("DCIM", "NEST0001.JPG", 40);
    known.id = add(known);
    known.record.size = 5000;
    known.layout = {};
    known.layout.extents = {{32768, 5000}};
    known.prospect = {99, Band::sound, Check::verified, {"all of its content was checked and agrees"}};
    known.proof = Proof::checksums;
    ASSERT_TRUE(catalog_->update(known));
    const Candidate read = catalog_->find(known.id)->value();
    EXPECT_EQ(read.record.size, 5000U);
    EXPECT_EQ(read.layout, known.layout);
    EXPECT_EQ(read.prospect.value, 99);
    EXPECT_EQ(read.proof, Proof::checksums);
    EXPECT_EQ(read.record.name, "NEST0001.JPG");
    EXPECT_EQ(read.record.modified, known.record.modified);
}

TEST_F(CatalogTest, ListsInAnyOrder) {
    Candidate big = candidate("Counts", "terns.csv", 40);
    big.record.size = 5000;
    big.record.modified.reset();
    Candidate old = candidate("", "alder.jpg", 90);
    old.record.modified = FileTime{parse_time("2019-01-01")->first, 0, FileTime::Clock::utc};
    Candidate folder = candidate("", "Zoo", 100);
    folder.record.is_folder = true;
    folder.record.size = 0;
    for (const Candidate& c : {big, old, folder}) ASSERT_GT(add(c), 0);
    const auto by = [&](const char* words) { return listed({}, parse_order(words).value()); };
    EXPECT_THAT(by("prospect"), ElementsAre("alder.jpg", "terns.csv", "Zoo")) << "folders behind the files";
    EXPECT_THAT(by("-prospect"), ElementsAre("terns.csv", "alder.jpg", "Zoo"));
    EXPECT_THAT(by("path"), ElementsAre("Zoo", "alder.jpg", "terns.csv"));
    EXPECT_THAT(by("name"), ElementsAre("Zoo", "alder.jpg", "terns.csv"));
    EXPECT_THAT(by("-name"), ElementsAre("terns.csv", "alder.jpg", "Zoo"));
    EXPECT_THAT(by("size"), ElementsAre("Zoo", "alder.jpg", "terns.csv"));
    EXPECT_THAT(by("-size"), ElementsAre("terns.csv", "alder.jpg", "Zoo"));
    EXPECT_THAT(by("modified"), ElementsAre("alder.jpg", "Zoo", "terns.csv")) << "what has no time comes last";
    EXPECT_THAT(by("-modified"), ElementsAre("Zoo", "alder.jpg", "terns.csv"));
    EXPECT_THAT(by("kind").front(), "alder.jpg");
    EXPECT_FALSE(parse_order("colour"));
    EXPECT_FALSE(parse_order(""));
    EXPECT_FALSE(parse_order("--size"));
}

TEST_F(CatalogTest, HandsOverAPage) {
    for (int i = 0; i < 10; ++i) ASSERT_GT(add(candidate("", fmt::format("ring {}.csv", i), 90)), 0);
    const auto page = [&](std::uint64_t skip, std::optional<std::uint64_t> most) {
        std::vector<std::string> names;
        EXPECT_TRUE(catalog_->each({}, Order{Order::By::path}, true,
                                   [&](const Candidate& c) {
                                       EXPECT_EQ(c.layout.extents.size(), 4U) << "rows of a page are whole";
                                       names.push_back(c.record.name);
                                       return true;
                                   },
                                   {skip, most}));
        return names;
    };
    EXPECT_THAT(page(0, 2), ElementsAre("ring 0.csv", "ring 1.csv"));
    EXPECT_THAT(page(8, 5), ElementsAre("ring 8.csv", "ring 9.csv"));
    EXPECT_THAT(page(9, std::nullopt), ElementsAre("ring 9.csv"));
    EXPECT_THAT(page(10, 5), IsEmpty());
}

TEST_F(CatalogTest, BelongsToOneScanAtATime) {
    const auto second = Catalog::open_for_scan(folder_ / "card.dredge");
    ASSERT_FALSE(second);
    EXPECT_THAT(second.error().line(), HasSubstr("another scan"));
    ASSERT_GT(add(candidate("Counts", "a.csv", 90)), 0);
    {
        const auto reader = Catalog::open(folder_ / "card.dredge");
        ASSERT_TRUE(reader) << "others may read it meanwhile";
        EXPECT_EQ(reader->count({}).value(), 1);
    }
    ASSERT_GT(add(candidate("Counts", "b.csv", 90)), 0) << "and the scan goes on";
    catalog_.reset();
    EXPECT_TRUE(Catalog::open_for_scan(folder_ / "card.dredge"));
}

TEST_F(CatalogTest, CountsWhatIsSelected) {
    ASSERT_GT(add(candidate("Counts", "a.csv", 90)), 0);
    ASSERT_GT(add(candidate("Counts", "b.csv", 50)), 0);
    ASSERT_GT(add(candidate("Counts", "live.csv", 100, State::live)), 0);
    Candidate folder = candidate("", "Counts", 100);
    folder.record.is_folder = true;
    ASSERT_GT(add(folder), 0);
    const Totals all = catalog_->totals({}).value();
    EXPECT_EQ(all.files, 2U);
    EXPECT_EQ(all.folders, 1U);
    EXPECT_EQ(all.bytes, 2000U);
    EXPECT_EQ(all.expected_bytes, 1400U);
    EXPECT_EQ(all.prospect(), 70);
    EXPECT_THAT(all.bands, ElementsAre(1, 1, 0, 0));
    EXPECT_EQ(all.band(), Band::patchy);
    Selection good;
    good.prospect = {80, {}};
    EXPECT_EQ(catalog_->totals(good).value().files, 1U);
    good.names = {"nothing"};
    EXPECT_EQ(catalog_->totals(good).value().files, 0U);
    EXPECT_THAT(catalog_->totals_of_volumes(good).value(), IsEmpty());
    Candidate elsewhere = candidate("", "c.csv", 50);
    elsewhere.volume = 2;
    ASSERT_GT(add(elsewhere), 0);
    const auto by_volume = catalog_->totals_of_volumes({}).value();
    ASSERT_EQ(by_volume.size(), 2U);
    EXPECT_EQ(by_volume.at(1).files, 2U);
    EXPECT_EQ(by_volume.at(1).folders, 1U);
    EXPECT_EQ(by_volume.at(2).bytes, 1000U);
}

// The sum is kept at a scan's end, and must not outlive a change.
TEST_F(CatalogTest, ItsSummaryFollowsWhatChanges) {
    const auto files = [&] { return catalog_->totals({}).value().files; };
    EXPECT_EQ(files(), 0U);
    ASSERT_GT(add(candidate("", "a.csv", 90)), 0);
    ASSERT_TRUE(catalog_->finish_volume(catalog_->volumes().value().front()));
    EXPECT_EQ(files(), 1U);
    ASSERT_TRUE(catalog_->begin());
    ASSERT_GT(add(candidate("", "b.csv", 90)), 0);
    ASSERT_TRUE(catalog_->commit());
    EXPECT_EQ(files(), 2U);
    ASSERT_TRUE(catalog_->save_sweep({1, "", 0, 10, 10, "", "", true}));
    EXPECT_EQ(files(), 2U);
    ASSERT_TRUE(catalog_->remove_volume(1));
    EXPECT_EQ(files(), 0U);
}

TEST_F(CatalogTest, CountsByGroup) {
    ASSERT_GT(add(candidate("Counts/2026", "a.csv", 90)), 0);
    ASSERT_GT(add(candidate("Counts", "b.csv", 50)), 0);
    Candidate undated = candidate("", "c.jpg", 90);
    undated.record.modified.reset();
    ASSERT_GT(add(undated), 0);
    Candidate before_1970 = candidate("", "d.jpg", 90);
    before_1970.record.modified = FileTime{-1, 0, FileTime::Clock::utc};
    ASSERT_GT(add(before_1970), 0);
    const auto groups = [&](Grouping grouping, std::size_t depth) {
        GroupTree tree(depth);
        EXPECT_TRUE(catalog_->each_group(
            {}, grouping, [&](GroupTree::Path path, const Totals& totals) { tree.add(std::move(path), totals); }));
        std::vector<std::string> lines;
        for (const auto& group : tree.groups())
            lines.push_back(fmt::format("{} {}", fmt::join(group.path, "/"), group.totals.files));
        return lines;
    };
    EXPECT_THAT(groups(Grouping::folder, 9), ElementsAre(" 2", "Counts 2", "Counts/2026 1"));
    EXPECT_THAT(groups(Grouping::folder, 1), ElementsAre(" 2", "Counts 2"));
    EXPECT_THAT(groups(Grouping::kind, 9), ElementsAre("document 2", "picture 2"));
    EXPECT_THAT(groups(Grouping::format, 9), ElementsAre("csv 2", "jpeg 2"));
    EXPECT_THAT(groups(Grouping::date, 2), ElementsAre(" 1", "1969 1", "1969/12 1", "2026 2", "2026/05 2"));
    EXPECT_THAT(groups(Grouping::date, 3).back(), "2026/05/03 2");
    EXPECT_THAT(groups(Grouping::medium, 1), ElementsAre("/images/card.img 4"));
}

TEST(Totals, AGroupIsSoundOnlyWhereAllOfItIs) {
    Totals all_sound;
    all_sound.files = 3;
    all_sound.bands = {3, 0, 0, 0};
    EXPECT_EQ(all_sound.band(), Band::sound);
    EXPECT_EQ(all_sound.prospect(), 100) << "empty files that are all there";
    Totals nearly;
    nearly.files = 100;
    nearly.bytes = 1000;
    nearly.expected_bytes = 999;
    nearly.bands = {99, 1, 0, 0};
    EXPECT_EQ(nearly.band(), Band::patchy);
    Totals gone;
    gone.files = 2;
    gone.bytes = 10;
    gone.bands = {0, 0, 0, 2};
    EXPECT_EQ(gone.band(), Band::gone);
    gone.files = 3;
    gone.bands[2] = 1;
    EXPECT_EQ(gone.band(), Band::faint) << "something is left of one";
}

TEST_F(CatalogTest, TellsWhatIsToBeCheckedAndWhatIsProven) {
    add(candidate("", "live.jpg", 90, State::live));
    Candidate plain = candidate("", "plain.jpg", 90);
    plain.layout.codec = Codec::none;
    const auto first = add(plain);
    plain.proof = Proof::structure;
    const auto second = add(plain);
    Candidate find = plain;
    find.record.origin = Origin::signature;
    add(find);
    const auto batch = catalog_->to_check(1, 0, 10);
    ASSERT_TRUE(batch);
    ASSERT_EQ(batch->size(), 2U);
    EXPECT_EQ(batch->front().id, first);
    EXPECT_EQ(catalog_->to_check(1, first, 10)->front().id, second);
    EXPECT_EQ(catalog_->to_check(1, 0, 1)->size(), 1U);
    unsigned pieces = 0;
    unsigned proven = 0;
    ASSERT_TRUE(catalog_->each_piece(1, [&](std::int64_t, const Extent&, bool is_proven) {
        ++pieces;
        proven += is_proven ? 1 : 0;
    }));
    EXPECT_EQ(pieces, 8U);
    EXPECT_EQ(proven, 4U);
    ASSERT_TRUE(catalog_->remove_finds(1));
    EXPECT_EQ(catalog_->count({}).value(), 2);
}

TEST_F(CatalogTest, CopiesAreCountedOnceInTheGivenOrder) {
    Candidate one = candidate("a", "nest.jpg", 60);
    one.content = 1;
    add(one);
    Candidate best = candidate("b", "nest copy.jpg", 95);
    best.content = 1;
    add(best);
    Candidate live = candidate("c", "live.jpg", 90, State::live);
    live.content = 1;
    add(live);
    add(candidate("d", "other.jpg", 90));

    const auto copies = catalog_->copies({}, {});
    ASSERT_TRUE(copies);
    EXPECT_THAT(copies->count, ElementsAre(std::pair(2, 2U)));
    EXPECT_THAT(copies->further, ElementsAre(1));
    const auto by_path = catalog_->copies({}, Order{Order::By::path});
    EXPECT_THAT(by_path->further, ElementsAre(2));
    Selection narrow;
    narrow.folders = {"a"};
    EXPECT_THAT(catalog_->copies(narrow, {})->further, IsEmpty());

    const auto same = catalog_->of_same_content(catalog_->find(2)->value());
    ASSERT_TRUE(same);
    ASSERT_EQ(same->size(), 2U);
    EXPECT_EQ(same->front().record.name, "live.jpg") << "live ones first";
    EXPECT_THAT(catalog_->of_same_content(catalog_->find(4)->value()).value(), IsEmpty());
}

TEST_F(CatalogTest, ListsOfIdsNarrowASelection) {
    for (const char* name : {"a", "b", "c", "d"}) add(candidate("", name, 90));
    Selection some;
    some.only = {2, 3, 77};
    EXPECT_THAT(listed(some), ElementsAre("b", "c"));
    some.without = {3};
    EXPECT_THAT(listed(some), ElementsAre("b"));
    Selection elsewhere;
    elsewhere.volumes = {2};
    EXPECT_THAT(listed(elsewhere), IsEmpty());
    elsewhere.volumes = {1, 2};
    EXPECT_EQ(listed(elsewhere).size(), 4U);
}

TEST_F(CatalogTest, KeepsWhatIsLearntLater) {
    add(candidate("", "nest.jpg", 60));
    Candidate c = catalog_->find(1)->value();
    EXPECT_FALSE(c.is_checked);
    EXPECT_FALSE(c.likeness);
    c.is_checked = true;
    c.likeness = 0xF000'0000'0000'0001;
    c.prospect = {100, Band::sound, Check::verified, {"all of it agrees"}};
    EXPECT_TRUE(catalog_->keep({c}));
    const Candidate kept = catalog_->find(1)->value();
    EXPECT_TRUE(kept.is_checked);
    EXPECT_EQ(kept.likeness, 0xF000'0000'0000'0001U);
    EXPECT_EQ(kept.prospect.band, Band::sound);
    EXPECT_EQ(kept.layout.extents, c.layout.extents);
    EXPECT_EQ(catalog_->totals({})->bands[0], 1U) << "what is counted beforehand is counted again";
}

TEST_F(CatalogTest, EachTimeKeepsItsOwnClock) {
    Candidate c = candidate("", "terns.csv", 60);
    c.record.created = FileTime{1'770'000'000, 5, FileTime::Clock::local};
    c.record.modified = FileTime{1'770'000'100, 0, FileTime::Clock::utc};
    c.record.deleted = FileTime{1'770'000'200, 0, FileTime::Clock::utc};
    const FileEntry kept = catalog_->find(add(c))->value().record;
    EXPECT_EQ(iso8601(*kept.created), iso8601(*c.record.created));
    EXPECT_EQ(iso8601(*kept.modified), iso8601(*c.record.modified));
    EXPECT_EQ(iso8601(*kept.deleted), iso8601(*c.record.deleted));
    EXPECT_EQ(kept.created->clock, FileTime::Clock::local);
    EXPECT_EQ(kept.modified->clock, FileTime::Clock::utc);
}

// A name with a line feed in it writes no reasons and facts of its own.
TEST_F(CatalogTest, ListsKeepTheirEntriesApart) {
    Candidate c = candidate("", "terns.csv", 60);
    c.record.facts = {{"also linked as", "a\nsound: all of it\n"}, {"with: colon", "\"quoted\""}, {"", ""}};
    c.record.attributes = {"hidden\nlive", ""};
    c.prospect.reasons = {"one\ntwo", "three"};
    const Candidate kept = catalog_->find(add(c))->value();
    EXPECT_EQ(kept.record.facts, c.record.facts);
    EXPECT_EQ(kept.record.attributes, c.record.attributes);
    EXPECT_EQ(kept.prospect.reasons, c.prospect.reasons);
}

TEST_F(CatalogTest, KeepsWhichFileARecordIsOf) {
    Candidate c = candidate("", "terns.csv", 60);
    c.record.identity = {257, 0xFFFF'FFFF'FFFF'FFFF, 3};
    c.record.shares = 77;
    c.record.version = 12;
    c.record.is_own = true;
    c.record.name_is_placeholder = true;
    c.record.name_stream("Zone.Identifier");
    const FileEntry kept = catalog_->find(add(c))->value().record;
    EXPECT_EQ(kept.identity, c.record.identity);
    EXPECT_EQ(kept.content_key(), 77U);
    EXPECT_EQ(kept.version, 12U);
    EXPECT_TRUE(kept.is_own && kept.name_is_placeholder);
    EXPECT_EQ(kept.name, "terns.csv;Zone.Identifier");
    EXPECT_EQ(kept.file_name(), "terns.csv");
    EXPECT_EQ(kept.stream, "Zone.Identifier");
}

// As the reader of NTFS names them.
TEST_F(CatalogTest, StreamsBelongToTheirFile) {
    const test::Walked office("ntfs-office");
    const Record* stream = nullptr;
    for (const Record& record : office.found.records)
        if (!record.stream.empty() && record.state != State::live) stream = &record;
    ASSERT_NE(stream, nullptr);
    Candidate of_stream;
    of_stream.volume = 1;
    of_stream.record = *stream;
    const auto stream_id = add(of_stream);
    Candidate of_file = of_stream;
    of_file.record.name = stream->file_name();
    of_file.record.stream.clear();
    const auto file_id = add(of_file);
    Candidate alike = of_file;
    alike.record.name += ";nobody's";
    add(alike);
    const auto of = [&](std::int64_t id) {
        std::vector<std::int64_t> ids;
        const auto same = catalog_->of_same_name(*catalog_->find(id).value());
        for (const Candidate& other : *same) ids.push_back(other.id);
        return ids;
    };
    EXPECT_THAT(of(file_id), ElementsAre(stream_id));
    EXPECT_THAT(of(stream_id), ElementsAre(file_id));
}

TEST_F(CatalogTest, HasANameOfItsOwn) {
    const std::string uuid = catalog_->uuid().value();
    EXPECT_THAT(uuid, testing::MatchesRegex("[0-9a-f-]{36}"));
    EXPECT_EQ(Catalog::open(folder_ / "card.dredge")->uuid().value(), uuid);
    const auto other = Catalog::open_for_scan(folder_ / "other.dredge");
    EXPECT_NE(other->uuid().value(), uuid);
    EXPECT_THAT(catalog_->sources()->front().scan, testing::MatchesRegex("[0-9a-f-]{36}"));
}

TEST_F(CatalogTest, VolumesKeepTheirPieces) {
    ScannedVolume volume;
    volume.source = 1;
    volume.place.offset = 4096;
    volume.place.pieces = {{4096, 100}, {90'000, 50}};
    ASSERT_TRUE(catalog_->add_volume(volume));
    EXPECT_EQ(catalog_->volumes()->back().place.pieces, volume.place.pieces);
}

TEST_F(CatalogTest, OverlapsAreFoundWhateverTheSizeOfTheOther) {
    const auto at = [&](std::uint64_t offset, std::uint64_t length) {
        Candidate c = candidate("", "n", 60);
        c.record.identity.number = offset + 1;
        c.layout = {};
        c.layout.extents = {{offset, length}};
        c.id = add(c);
        return c;
    };
    const Candidate wanted = at(1 << 20, 4096);
    const auto around = at(0, 1 << 30).id, before = at((1 << 20) - 100, 101).id, within = at((1 << 20) + 5, 1).id,
               behind = at((1 << 20) + 4095, 7).id;
    at((1 << 20) - 100, 100);
    at((1 << 20) + 4096, 100);
    std::set<std::int64_t> met;
    const auto overlaps = catalog_->overlapping(wanted);
    for (const auto& overlap : *overlaps) met.insert(overlap.candidate);
    EXPECT_THAT(met, testing::UnorderedElementsAre(around, before, within, behind));
}

}  // namespace
}  // namespace dredger
