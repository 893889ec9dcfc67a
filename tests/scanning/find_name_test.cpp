#include "scanning/find_name.h"

#include <gtest/gtest.h>

namespace dredger {
namespace {

std::string named(const char* title, const char* format) {
    Description said;
    said.title = title;
    return name_of_find(said, *format_named(format), 17);
}

TEST(NameOfFind, ComesFromTheContent) {
    EXPECT_EQ(named("Rings for June", "eml"), "Rings for June.eml");
    EXPECT_EQ(named("Küken Nest 4", "jpeg"), "Küken Nest 4.jpg");
    EXPECT_EQ(named("log.csv.gz", "gz"), "log.csv.gz") << "the extension is there already";
}

TEST(NameOfFind, OrSaysThatThereIsNone) {
    EXPECT_EQ(named("", "mp4"), "unnamed-video-17.mp4");
    EXPECT_EQ(named(" ... ", "docx"), "unnamed-document-17.docx");
}

TEST(NameOfFind, CanNotClimbOrSteer) {
    EXPECT_EQ(named("../../etc/passwd", "txt"), "_.._etc_passwd.txt");
    EXPECT_EQ(named("C:\\nests?", "html"), "C__nests_.html");
    EXPECT_EQ(named("a\x1B[31mb", "html").find('\x1B'), std::string::npos);
    EXPECT_EQ(named(".hidden", "html"), "hidden.html");
}

TEST(NameOfFind, IsShortEnoughForAnyFileSystem) {
    std::string title;
    for (int i = 0; i < 300; ++i) title += "ü";
    const std::string name = named(title.c_str(), "pdf");
    EXPECT_LE(name.size(), 110U);
    EXPECT_TRUE(name.ends_with("ü.pdf")) << "not in the middle of a letter";
}

}  // namespace
}  // namespace dredger
