#include "filesystems/posix.h"

#include <gmock/gmock.h>

namespace dredger {
namespace {

using testing::Contains;

TEST(Posix, ModesAreWrittenAsPeopleReadThem) {
    EXPECT_EQ(mode_text(0100644), "-rw-r--r--");
    EXPECT_EQ(mode_text(0040755), "drwxr-xr-x");
    EXPECT_EQ(mode_text(0120777), "lrwxrwxrwx");
    EXPECT_EQ(mode_text(0104755), "-rwsr-xr-x");
    EXPECT_EQ(mode_text(0041770), "drwxrwx--T");
}

TEST(Posix, PermissionsAreReadBackWithoutWhatLetsAProgramRunAsAnotherUser) {
    for (const std::uint16_t mode : std::initializer_list<std::uint16_t>{0100644, 0100600, 0104755, 0102711}) {
        Record record;
        tell_inode_facts(record, 12, mode, 1000, 100);
        EXPECT_THAT(record.facts, Contains(Fact{"owner", "1000:100"}));
        EXPECT_THAT(record.facts, Contains(Fact{"inode", "12"}));
        EXPECT_EQ(permissions_of(record), mode & 0777) << mode;
    }
    EXPECT_FALSE(permissions_of(Record{}));
    Record link;
    tell_inode_facts(link, 12, 0120777, 0, 0);
    EXPECT_THAT(link.attributes, Contains("symbolic link"));
}

}  // namespace
}  // namespace dredger
