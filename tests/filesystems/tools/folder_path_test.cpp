#include "filesystems/tools/folder_path.h"

#include <fmt/format.h>
#include <gtest/gtest.h>
#include <map>

namespace dredger {
namespace {

const std::map<int, FolderStep<int>> kFolders = {{2, {2, "", true}},        {3, {2, "Logs"}}, {4, {3, "2026"}},
                                                 {5, {99, "Terns"}},        {6, {7, "a"}},    {7, {6, "b"}},
                                                 {8, {0, "station", true}}, {9, {8, "Nests"}}};

FolderPlace place(int folder) {
    return folder_place(
        folder,
        [](int key) {
            const auto found = kFolders.find(key);
            return found == kFolders.end() ? std::nullopt : std::optional(found->second);
        },
        [](int key) { return fmt::format("(folder {})", key); });
}

TEST(FolderPath, LeadsFromTheTopDown) {
    EXPECT_EQ(place(2).path, "");
    EXPECT_EQ(place(4).path, "Logs/2026");
    EXPECT_TRUE(place(4).is_known);
    EXPECT_EQ(place(9).path, "station/Nests") << "a root may have a label of its own";
}

TEST(FolderPath, ANumberStandsForWhatIsNotKnown) {
    EXPECT_EQ(place(5).path, "(folder 99)/Terns");
    EXPECT_FALSE(place(5).is_known);
    EXPECT_EQ(place(99).path, "(folder 99)");
}

TEST(FolderPath, FoldersThatContainEachOtherLeadNowhere) {
    EXPECT_EQ(place(6).path, "(folder 6)");
    EXPECT_FALSE(place(7).is_known);
}

}  // namespace
}  // namespace dredger
