#include "catalog/catalog.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sqlite3.h>

#include "support/support.h"

namespace dredger {
namespace {

using test::TempFolder;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;

Candidate candidate(const std::string& folder, const std::string& name, int prospect, State state = State::deleted) {
    Candidate c;
    c.volume = 1;
    c.record.id = 4096;
    c.record.folder = folder;
    c.record.name = name;
    c.record.state = state;
    c.record.size = 1000;
    c.record.modified = FileTime{parse_time("2026-05-03")->first, 530'000'000, FileTime::Clock::local};
    c.record.attributes = {"read-only"};
    c.record.changed = FileTime{parse_time("2026-05-04")->first, 100, FileTime::Clock::local};
    c.record.facts = {{"account", "S-1-5-21-7"}, {"original place", "E:\\Logs: old\\terns.csv"}};
    c.record.layout.extents = {{8192, 600}, {Extent::kHole, 100}, {Extent::kZeros, 50}, {16384, 250}};
    c.record.layout.codec = Codec::lznt1;
    c.record.layout.unit = 65'536;
    c.record.layout.within_records = true;
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
    std::vector<std::string> listed(const Selection& selection, Sort sort = Sort::prospect) const {
        std::vector<std::string> names;
        EXPECT_TRUE(catalog_->each(selection, sort, false, [&](const Candidate& c) {
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
    EXPECT_EQ(found->record.layout, given.record.layout);
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
    EXPECT_THAT(listed({}, Sort::path), ElementsAre("high.jpg", "low.jpg"));
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
    EXPECT_THAT(with([](Selection& s) { s.folders = {"/gannet survey/"}; }), ElementsAre("Ledge 01.JPG", "plan.docx"));
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
    other.record.layout.extents = {{8500, 1000}};
    ASSERT_GT(add(candidate("a", "older.jpg", 10)), 0);
    ASSERT_GT(add(other), 0);
    const auto overlaps = catalog_->overlapping(1, {8192, 600}, 10).value();
    ASSERT_EQ(overlaps.size(), 2U);
    EXPECT_EQ(overlaps[0].path, "b/newer.jpg");
    EXPECT_EQ(overlaps[0].shared, (Extent{8500, 292}));
    EXPECT_TRUE(catalog_->overlapping(1, {100, 50}, 10).value().empty());
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
    ASSERT_TRUE(catalog_->save_sweep({1, "{}", 12, 4 << 20, 9 << 20, "state", false}));
    ASSERT_TRUE(catalog_->save_sweep({1, "{}", 40, 8 << 20, 9 << 20, "later", true}));
    const Sweep sweep = catalog_->sweep_of(1)->value();
    EXPECT_EQ(sweep.checked, 40);
    EXPECT_EQ(sweep.position, 8U << 20);
    EXPECT_EQ(sweep.total, 9U << 20);
    EXPECT_EQ(sweep.state, "later");
    EXPECT_TRUE(sweep.done);
    ASSERT_TRUE(catalog_->remove_volume(1));
    EXPECT_FALSE(*catalog_->sweep_of(1));
}

TEST_F(CatalogTest, FindsCandidatesByWhereTheyBegin) {
    const auto first = add(candidate("", "nest.jpg", 90));
    Candidate live = candidate("", "live.jpg", 90, State::live);
    add(live);
    Candidate other = candidate("", "other.jpg", 90);
    other.record.layout.extents = {{16384, 250}, {8192, 600}};
    add(other);
    const auto there = catalog_->beginning_at(1, 8192);
    ASSERT_TRUE(there);
    ASSERT_EQ(there->size(), 1U) << "neither live ones nor later pieces";
    EXPECT_EQ(there->front().id, first);
    EXPECT_EQ(there->front().record.layout.extents.size(), 4U);
    EXPECT_TRUE(catalog_->beginning_at(2, 8192)->empty()) << "another volume";
}

TEST_F(CatalogTest, WhatIsKnownBetterReplacesWhatWas) {
    Candidate known = candidate("DCIM", "NEST0001.JPG", 40);
    known.id = add(known);
    known.record.size = 5000;
    known.record.layout = {{{32768, 5000}}, Codec::none, 0, false};
    known.prospect = {99, Band::sound, Check::verified, {"all of its content was checked and agrees"}};
    known.proof = Proof::checksums;
    ASSERT_TRUE(catalog_->update(known));
    const Candidate read = catalog_->find(known.id)->value();
    EXPECT_EQ(read.record.size, 5000U);
    EXPECT_EQ(read.record.layout, known.record.layout);
    EXPECT_EQ(read.prospect.value, 99);
    EXPECT_EQ(read.proof, Proof::checksums);
    EXPECT_EQ(read.record.name, "NEST0001.JPG");
    EXPECT_EQ(read.record.modified, known.record.modified);
}

TEST_F(CatalogTest, TellsWhatIsToBeCheckedAndWhatIsProven) {
    add(candidate("", "live.jpg", 90, State::live));
    Candidate plain = candidate("", "plain.jpg", 90);
    plain.record.layout.codec = Codec::none;
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

}  // namespace
}  // namespace dredger
