#include "media/drives.h"

#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

TEST(Drives, ADeviceIsKnownByWhateverPath) {
    const test::TempFolder folder;
    Drive drive;
    drive.device = (folder / "sdb").string();
    for (const char* name : {"sdb1", "sdb2"}) {
        drive.partitions.emplace_back();
        drive.partitions.back().device = (folder / name).string();
    }
    for (const char* name : {"sdb", "sdb1", "sdb2", "sdc", "sdb11"}) test::write_text(folder / name, "");
    std::filesystem::create_symlink("sdb2", folder / "by-label-tern");
    for (const char* name : {"sdb", "sdb1", "sdb2", "by-label-tern", "./sdb1"})
        EXPECT_TRUE(is_on(drive, folder / name)) << name;
    for (const char* name : {"sdc", "sdb11", "missing"}) EXPECT_FALSE(is_on(drive, folder / name)) << name;
}

}  // namespace
}  // namespace dredger
