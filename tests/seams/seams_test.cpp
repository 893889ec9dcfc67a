// What is added in a file of its own goes all the way: a file system and a format that the program does not know are
// linked with it (ledger_filesystem.cpp, roll_format.cpp), and nothing else is changed.
#include <gmock/gmock.h>
#include <nlohmann/json.hpp>

#include "support/support.h"

namespace dredger {
namespace {

using testing::AllOf;
using testing::HasSubstr;

void put(std::string& into, std::size_t at, std::uint64_t value, unsigned bytes) {
    for (unsigned i = 0; i < bytes; ++i) into[at + i] = static_cast<char>(value >> (8 * i) & 0xFF);
}

constexpr std::size_t kCluster = 1024;

// Content of some length that shows nothing by its first bytes.
std::string log_of(std::size_t size) {
    std::string text;
    for (unsigned n = 0; text.size() < size; ++n) text += "burrow " + std::to_string(n) + ": one chick\n";
    text.resize(size);
    return text;
}

// A ring list: a head, then rings of 16 bytes, each with a check digit behind it.
std::string roll_of(unsigned rings) {
    std::string roll = "RINGROLL";
    roll.resize(16);
    put(roll, 8, rings, 4);
    for (unsigned n = 0; n < rings; ++n) {
        std::string ring = "SK" + std::to_string(566'000 + n);
        ring.resize(15);
        char sum = 0;
        for (const char c : ring) sum = static_cast<char>(sum ^ c);
        roll += ring + sum;
    }
    return roll;
}

struct Entry {
    std::string name;
    std::string content;
    bool is_live = true;
    bool is_folder = false;
    std::uint32_t folder = 0xFFFFFFFF;
};

std::string ledger_volume(const std::vector<Entry>& entries) {
    std::string volume(256 * kCluster, '\0');
    volume.replace(0, 8, "LEDGERFS");
    put(volume, 8, kCluster, 4);
    put(volume, 12, 256, 4);
    put(volume, 16, entries.size(), 4);
    volume.replace(20, 6, "COLONY");
    std::size_t cluster = 8;
    for (std::size_t i = 0; i < entries.size(); ++i) {
        const Entry& entry = entries[i];
        const std::size_t at = 512 + 128 * i;
        volume[at] = entry.is_live ? 1 : 0;
        volume[at + 1] = entry.is_folder ? 1 : 0;
        put(volume, at + 4, entry.folder, 4);
        put(volume, at + 8, cluster, 4);
        put(volume, at + 12, entry.content.size(), 8);
        put(volume, at + 20, 1'777'800'000, 8);
        volume.replace(at + 28, entry.name.size(), entry.name);
        volume.replace(cluster * kCluster, entry.content.size(), entry.content);
        cluster += entry.content.size() / kCluster + 1;
    }
    return volume;
}

test::Ran run(const std::vector<std::string>& words) {
    test::RunOptions options;
    options.program = "dredger_with_seams";
    return test::run_program(words, options);
}

TEST(Seams, AFileSystemInAFolderOfItsOwnIsScannedListedShownAndRestoredFrom) {
    const test::TempFolder folder;

    test::write_text(folder / "drive.img", ledger_volume({{"Logs", "", true, true},
                                                          {"terns.log", log_of(3000), false, false, 0},
                                                          {"puffins.log", log_of(2500), true, false, 0},
                                                          {"diary.log", log_of(700), false}}));
    const std::string image = folder / "drive.img", catalog = folder / "drive.dredge";
    EXPECT_THAT(run({"survey", image}).out, AllOf(HasSubstr("Ledger"), HasSubstr("COLONY")));
    const auto scanned = run({"scan", image, "-c", catalog});
    EXPECT_EQ(scanned.exit_code, 0) << scanned.err;
    EXPECT_THAT(scanned.out, HasSubstr("volume 1 (Ledger COLONY): 2 deleted and 2 live records"));
    const auto listed = run({"list", catalog, "--as", "jsonl", "--sort", "path"});
    EXPECT_THAT(listed.out, AllOf(HasSubstr("\"Logs/terns.log\""), HasSubstr("\"diary.log\""), HasSubstr("\"sound\"")));
    EXPECT_THAT(run({"show", catalog, "2"}).out, AllOf(HasSubstr("Logs/terns.log"), HasSubstr("Where it lies")));
    const auto restored = run({"restore", catalog, "--to", folder / "rescue"});
    EXPECT_EQ(restored.exit_code, 0) << restored.err;
    EXPECT_EQ(test::read_text(folder.path() / "rescue/Logs/terns.log"), log_of(3000));
    EXPECT_EQ(test::read_text(folder.path() / "rescue/diary.log"), log_of(700));
}

TEST(Seams, AndFoundWhereNoTableTellsOfIt) {
    const test::TempFolder folder;
    test::write_text(
        folder / "drive.img",
        std::string(1 << 20, '\0') + ledger_volume({{"terns.log", log_of(3000), true}}) + std::string(1 << 20, '\0'));
    const auto scanned = run({"scan", folder / "drive.img", "-c", folder / "drive.dredge"});
    EXPECT_EQ(scanned.exit_code, 0) << scanned.err;
    EXPECT_THAT(run({"list", folder / "drive.dredge"}).out, HasSubstr("terns.log"));
}

TEST(Seams, AFormatInAFileOfItsOwnIsFoundMeasuredDescribedAndTakenApart) {
    const test::TempFolder folder;
    std::string surface(64 << 10, '\0');
    const std::string roll = roll_of(300);
    surface.replace(8192, roll.size(), roll);
    std::string damaged = roll;
    damaged[2000] = 'x';
    surface.replace(32'768, damaged.size(), damaged);
    test::write_text(folder / "card.img", surface);
    EXPECT_THAT(run({"kinds"}).out, HasSubstr("ringroll"));
    const auto scanned = run({"scan", "--deep", folder / "card.img", "-c", folder / "card.dredge"});
    EXPECT_EQ(scanned.exit_code, 0) << scanned.err;
    const auto listed = run({"list", folder / "card.dredge", "--as", "jsonl"});
    std::vector<nlohmann::json> finds;
    std::istringstream lines(listed.out);
    for (std::string line; std::getline(lines, line);) finds.push_back(nlohmann::json::parse(line));
    ASSERT_EQ(finds.size(), 2U) << listed.out;
    EXPECT_EQ(finds[0]["name"], "Rings from SK566000.ringroll");
    EXPECT_EQ(finds[0]["check"], "verified");
    EXPECT_EQ(finds[0]["size"], roll.size());
    EXPECT_EQ(finds[1]["check"], "damaged");
    EXPECT_EQ(run({"restore", folder / "card.dredge", "--id", "1", "--to", folder / "rescue"}).exit_code, 0);
    EXPECT_EQ(test::read_text(folder.path() / "rescue/Rings from SK566000.ringroll"), roll);
}

}  // namespace
}  // namespace dredger
