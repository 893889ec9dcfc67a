// Which role each file gets, and of which document, from names, places and content that the test gives.
#include "lives/finder.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <random>

#include "media/text_medium.h"

namespace dredger::lives {
namespace {

using testing::HasSubstr;

class Folders {
  public:
    std::int64_t add(const std::string& path, std::string content = {}) {
        SeenFile file;
        file.id = static_cast<std::int64_t>(files_.size()) + 1;
        file.volume = 1;
        const auto slash = path.rfind('/');
        file.folder = slash == path.npos ? "" : path.substr(0, slash);
        file.name = path.substr(slash == path.npos ? 0 : slash + 1);
        file.size = content.size();
        file.created = 1'000 + file.id;
        file.has_content = !content.empty();
        contents_.push_back(std::move(content));
        files_.push_back(file);
        return file.id;
    }
    SeenFile& file(std::int64_t id) { return files_[static_cast<std::size_t>(id) - 1]; }

    std::map<std::int64_t, SafetyCopy> roles(const Habits& habits = Habits()) {
        RoleFinder finder(habits, [&](std::int64_t id) -> std::unique_ptr<Medium> {
            return std::make_unique<TextMedium>(contents_[static_cast<std::size_t>(id) - 1], "content");
        });
        for (const SeenFile& one : files_) finder.look_for_copies(one);
        for (const SeenFile& one : files_) finder.look_for_documents(one);
        return finder.roles([](std::size_t) { return true; });
    }

    // The role of a file at this path beside the given others, as "ROLE of DOCUMENT".
    static std::string told(const std::string& path, const std::vector<std::string>& others) {
        Folders folders;
        const auto id = folders.add(path);
        for (const std::string& other : others) folders.add(other);
        const auto roles = folders.roles();
        const auto found = roles.find(id);
        if (found == roles.end()) return "none";
        return std::string(word_for(found->second.role)) + (found->second.of.empty() ? "" : " of " + found->second.of);
    }

  private:
    std::vector<SeenFile> files_;
    std::vector<std::string> contents_;
};

std::string words(unsigned seed, int count) {
    std::minstd_rand chance(seed);
    std::string text;
    for (int n = 0; n < count; ++n) text += "word" + std::to_string(chance() % 50'000) + (n % 12 == 11 ? "\n" : " ");
    return text;
}

struct Case {
    const char* copy;
    std::vector<std::string> others;
    const char* told;
};

class EverydayCopies : public testing::TestWithParam<Case> {};

TEST_P(EverydayCopies, AreToldWithTheirDocument) {
    EXPECT_EQ(Folders::told(GetParam().copy, GetParam().others), GetParam().told);
}

const std::string kProfile = "Users/wren/AppData/Roaming/Microsoft/";

INSTANTIATE_TEST_SUITE_P(
    Office, EverydayCopies,
    testing::Values(
        Case{"Docs/~$rmit 2026.docx", {"Docs/Permit 2026.docx"}, "owner note of Docs/Permit 2026.docx"},
        Case{"Docs/~$List.xlsx", {"Docs/List.xlsx"}, "owner note of Docs/List.xlsx"},
        Case{"Docs/~$llmöwe.docx", {"Docs/Dollmöwe.docx", "Other/Polmöwe.docx"}, "owner note of Docs/Dollmöwe.docx"},
        Case{"Docs/~$rmit.docx", {"Other/Permit.docx"}, "owner note"},
        Case{"Docs/.~lock.Ring list.ods#", {}, "owner note of Docs/Ring list.ods"},
        Case{
            "Users/wren/AppData/Roaming/Microsoft/Word/AutoRecovery save of Season report.asd",
            {"Users/wren/Docs/Season report.docx", "Users/wren/Docs/report.docx", "Users/gull/Docs/Season report.docx"},
            "autosave of Users/wren/Docs/Season report.docx"},
        Case{"Users/wren/Word/AutoWiederherstellen-Speicherung von Season report.asd",
             {"Users/wren/Season report.doc"},
             "autosave of Users/wren/Season report.doc"},
        Case{"Users/wren/Excel/Rings594/Rings((Autosaved-9948)).xlsb",
             {"Users/wren/Rings.docx", "Users/wren/Docs/Rings.xlsx"},
             "autosave of Users/wren/Docs/Rings.xlsx"},
        Case{"Users/wren/AppData/Local/Microsoft/Office/UnsavedFiles/Book1((Unsaved-28)).xlsb",
             {"Book1.xlsx"},
             "autosave"},
        Case{"home/.config/libreoffice/4/user/backup/Ring list.ods_0.ods",
             {"home/Docs/Ring list.ods"},
             "autosave of home/Docs/Ring list.ods"},
        Case{"home/.config/libreoffice/4/user/backup/Ring list.bak",
             {"home/Docs/Ring list.ods", "home/Docs/Ring list.png"},
             "backup of home/Docs/Ring list.ods"},
        Case{"home/.config/libreoffice/4/user/backup/untitled_0.odt", {}, "autosave"},
        Case{"Docs/Backup of Letter.wbk", {"Docs/Letter.doc"}, "backup of Docs/Letter.doc"}));

INSTANTIATE_TEST_SUITE_P(Editors, EverydayCopies,
                         testing::Values(Case{"logs/May.txt~", {"logs/May.txt"}, "backup of logs/May.txt"},
                                         Case{"logs/#May.txt#", {"logs/May.txt"}, "autosave of logs/May.txt"},
                                         Case{"logs/May.txt.~3~", {"logs/May.txt"}, "backup of logs/May.txt"},
                                         Case{"logs/.May.txt.swp", {}, "swap of logs/May.txt"},
                                         Case{"home/.emacs.d/auto-save-list/#!home!wren!logs!May.txt#",
                                              {"home/wren/logs/May.txt"},
                                              "autosave of home/wren/logs/May.txt"},
                                         Case{"logs/May.txt.bak", {"logs/May.txt"}, "backup of logs/May.txt"},
                                         Case{"logs/May.bak", {"logs/May.txt"}, "backup of logs/May.txt"},
                                         Case{"logs/May.txt.bak", {}, "none"}));

INSTANTIATE_TEST_SUITE_P(
    Backups, EverydayCopies,
    testing::Values(Case{"FileHistory/wren/HUT-PC/Data/C/Users/wren/Docs/Rings (2026_05_02 09_14_00 UTC).xlsx",
                         {},
                         "history of Users/wren/Docs/Rings.xlsx"},
                    Case{"Backups.backupdb/Hut iMac/2026-05-02-091400/Disk/Users/wren/Docs/Rings.numbers",
                         {"mac/Users/wren/Docs/Rings.numbers"},
                         "history of mac/Users/wren/Docs/Rings.numbers"},
                    Case{"Backup 2026-05-01/Nests/Ledge 2.jpg",
                         {"Photos/Nests/Ledge 2.jpg"},
                         "history of Photos/Nests/Ledge 2.jpg"},
                    Case{"Sync/.stversions/Docs/Rings~20260502-091400.csv",
                         {"Sync/Docs/Rings.csv"},
                         "history of Sync/Docs/Rings.csv"},
                    Case{"2026-05-01 Boat trip/Puffin.jpg", {"Photos/Puffin.jpg"}, "none"}));

INSTANTIATE_TEST_SUITE_P(Others, EverydayCopies,
                         testing::Values(Case{"Plans/Hut.sv$", {"Plans/Hut.dwg"}, "autosave of Plans/Hut.dwg"},
                                         Case{"Plans/Hut.bak", {"Plans/Hut.dwg"}, "backup of Plans/Hut.dwg"},
                                         Case{"Plans/Hut.blend1", {"Plans/Hut.blend"}, "backup of Plans/Hut.blend"},
                                         Case{"Films/Adobe Premiere Pro Auto-Save/Nest-2026-05-02_09-14-00.prproj",
                                              {"Films/Nest.prproj"},
                                              "history of Films/Nest.prproj"},
                                         Case{"Downloads/chart.pdf.crdownload", {}, "temporary of Downloads/chart.pdf"},
                                         Case{"Downloads/chart.part", {}, "none"},
                                         Case{"Users/wren/INetCache/Content.Outlook/4F3KQ2/Permit.pdf",
                                              {"Users/wren/Docs/Permit.pdf"},
                                              "temporary of Users/wren/Docs/Permit.pdf"},
                                         Case{"FOUND.000/FILE0003.CHK", {}, "piece"},
                                         Case{"lost+found/#12345", {}, "piece"},
                                         Case{"Photos/Thumbs.db", {}, "cache"}));

// What nobody would call a copy.
INSTANTIATE_TEST_SUITE_P(FilesInTheirOwnRight, EverydayCopies,
                         testing::Values(Case{"src/main.c", {"src/main.h"}, "none"},
                                         Case{"Makefile", {"a.xlsx"}, "none"},
                                         Case{"Letter (2).docx", {"Letter.docx"}, "none"}, Case{".bashrc", {}, "none"},
                                         Case{"app/.main.swift", {"app/main"}, "none"},
                                         Case{"Docs/Copy of List.xlsx", {"Docs/List.xlsx"}, "none"},
                                         Case{"log/syslog.2026-05-01", {"log/syslog"}, "none"},
                                         Case{"Backup/Nests/a.jpg", {"Nests/a.jpg"}, "none"},
                                         Case{"x/ABCDEF01", {"x/notes.txt"}, "none"}));

TEST(RoleFinder, ContentTellsTheDocumentWhereTheNameDoesNot) {
    Folders folders;
    const std::string report = words(1, 3'000), list = words(2, 3'000);
    folders.add("Docs/Season report.docx", report + "One line more.");
    folders.add("Docs/Ring list.docx", list);
    const auto copy = folders.add("Docs/~WRD0003.tmp", report.substr(0, 12'000) + "another end");
    const auto other = folders.add("Docs/~WRL0017.tmp", list.substr(500));
    const auto stranger = folders.add("Docs/~WRD0004.tmp", words(9, 3'000));
    const auto elsewhere = folders.add("Temp/~DF12AB.tmp", report);
    auto roles = folders.roles();
    EXPECT_EQ(roles[copy].of, "Docs/Season report.docx");
    EXPECT_THAT(roles[copy].why, HasSubstr("% of what is its own stands in this document"));
    EXPECT_EQ(roles[other].of, "Docs/Ring list.docx");
    EXPECT_EQ(roles[stranger].role, Role::temporary);
    EXPECT_EQ(roles[stranger].of, "");
    EXPECT_EQ(roles[elsewhere].of, "Docs/Season report.docx");
}

// Of documents that were made from one another the one that work had begun on last.
TEST(RoleFinder, AmongDocumentsThatAreAlikeTimeTells) {
    Folders folders;
    const std::string form = words(3, 4'000);
    folders.add("Permit A.doc", form + "A");
    const auto of_b = folders.add("Permit B.doc", form + "B");
    const auto copy = folders.add("~WRL0001.tmp", form);
    folders.add("Permit C.doc", form + "C");
    auto roles = folders.roles();
    EXPECT_EQ(roles[copy].of, folders.file(of_b).name);
}

// Deletion on FAT takes the first character of a short name.
TEST(RoleFinder, NamesThatLackTheirFirstCharacterAreKnown) {
    Folders folders;
    const auto copy = folders.add("_WRD2286.TMP", "x");
    folders.file(copy).name_is_whole = false;
    const auto whole = folders.add("_WRD2287.TMP", "x");
    auto roles = folders.roles();
    EXPECT_EQ(roles[copy].role, Role::temporary);
    EXPECT_EQ(roles[whole].role, Role::none);
}

TEST(RoleFinder, WhatTheNoteItselfSaysIsKept) {
    Folders folders;
    std::string note(162, '\0');
    note[0] = 4;
    note.replace(1, 4, "Wren");
    note[54] = 4;
    for (int n = 0; n < 4; ++n) note[static_cast<std::size_t>(56 + 2 * n)] = "Wren"[n];
    folders.add("Docs/Permit.docx", "x");
    const auto office = folders.add("Docs/~$rmit.docx", note);
    const auto lock =
        folders.add("Docs/.~lock.Permit.odt#", ",wren,hut-laptop,02.05.2026 09:14,file:///home/wren/.config;");
    auto roles = folders.roles();
    EXPECT_THAT(roles[office].why, HasSubstr("opened by Wren"));
    EXPECT_THAT(roles[lock].why, HasSubstr("opened by wren on hut-laptop, 02.05.2026 09:14"));
    EXPECT_EQ(roles[lock].of, "Docs/Permit.odt");
}

TEST(RoleFinder, WhatSomebodyHidIsTold) {
    Folders folders;
    const auto folder = folders.add("Nests");
    folders.file(folder).is_folder = true;
    folders.file(folder).attributes = R"(["hidden","system"])";
    folders.add("Nests.lnk", "x");
    const auto photo = folders.add("Photos/.puffin.jpg", "x");
    const auto of_program = folders.add(".cache/.icon.png", "x");
    const auto cover = folders.add("Music/AlbumArtSmall.jpg", "x");
    folders.file(cover).attributes = R"(["hidden"])";
    const auto dot_file = folders.add(".profile", "x");
    auto roles = folders.roles();
    EXPECT_EQ(roles[folder].role, Role::hidden);
    EXPECT_EQ(roles[photo].role, Role::hidden);
    for (const auto id : {of_program, cover, dot_file}) EXPECT_EQ(roles[id].role, Role::none) << folders.file(id).name;
}

TEST(RoleFinder, AShopsOwnHabitsComeFirst) {
    const std::vector<Habit> own = {
        {.role = Role::backup, .name = "{stem}.rkb", .extensions = "ring", .left_by = "the ringing program"}};
    Folders folders;
    folders.add("Rings/2026.ring", "x");
    const auto copy = folders.add("Rings/2026.rkb", "x");
    auto roles = folders.roles(Habits(own));
    EXPECT_EQ(roles[copy].role, Role::backup);
    EXPECT_EQ(roles[copy].of, "Rings/2026.ring");
}

TEST(RoleFinder, AStopLeavesNothingHalfTold) {
    Folders folders;
    for (int n = 0; n < 9; ++n) folders.add("a" + std::to_string(n) + ".txt~");
    const Habits habits;
    RoleFinder finder(habits, [](std::int64_t) { return nullptr; });
    for (int n = 1; n < 10; ++n) finder.look_for_copies(folders.file(n));
    EXPECT_TRUE(finder.roles([](std::size_t done) { return done < 4; }).empty());
}

}  // namespace
}  // namespace dredger::lives
