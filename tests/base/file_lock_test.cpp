#include "base/file_lock.h"

#include <gtest/gtest.h>
#include <optional>

#include "support/support.h"

namespace dredger {
namespace {

using test::TempFolder;

TEST(FileLock, KeepsTheNextOneOutUntilItGoes) {
    const TempFolder folder;
    test::write_text(folder / "log.csv", "puffin");
    for (const auto& path : {folder.path(), folder / "log.csv"}) {
        std::optional<FileLock> first(path);
        EXPECT_FALSE(first->is_held_elsewhere());
        EXPECT_TRUE(FileLock(path).is_held_elsewhere());
        EXPECT_EQ(test::read_text(folder / "log.csv"), "puffin");
        first.reset();
        EXPECT_FALSE(FileLock(path).is_held_elsewhere());
    }
}

TEST(FileLock, OfWhatIsNotThereKeepsNobodyOut) {
    const TempFolder folder;
    const FileLock first(folder / "nothing"), second(folder / "nothing");
    EXPECT_FALSE(first.is_held_elsewhere() || second.is_held_elsewhere());
}

}  // namespace
}  // namespace dredger
