#include "formats/format.h"

#include <gtest/gtest.h>
#include <set>

#include "support/support.h"

namespace dredger {
namespace {

Agreement judge(const char* extension, std::string_view head) {
    return judge_head(extension, ByteView(test::bytes_of(head)));
}

TEST(Formats, HaveNamesExtensionsAndSomethingToGoBy) {
    std::set<std::string_view> names;
    for (const Format* format : all_formats()) {
        EXPECT_TRUE(names.insert(format->name).second) << format->name << " is there twice";
        EXPECT_FALSE(format->extensions.empty()) << format->name;
        EXPECT_TRUE(format->is_text || !format->signatures.empty()) << format->name;
        // Symbols of programs and books for hand-held computers have the same one.
        if (format->name == "msf") continue;
        EXPECT_EQ(format_with_extension(format->extensions.front()), format) << format->name;
    }
}

TEST(Formats, TheHeadAgreesWithTheName) {
    EXPECT_EQ(judge("jpg", "\xFF\xD8\xFF\xE0 and so on"), Agreement::agrees);
    EXPECT_EQ(judge("docx", "PK\3\4 and so on"), Agreement::agrees);
    EXPECT_EQ(judge("wav", "RIFF....WAVE"), Agreement::agrees);
    EXPECT_EQ(judge("mp4", std::string_view("\0\0\0\x20"
                                            "ftypisom",
                                            12)),
              Agreement::agrees);
}

TEST(Formats, WhereTwoShareANameEitherAgrees) {
    EXPECT_EQ(judge("pdb", "Microsoft C/C++ MSF 7.00\r\n and so on" + std::string(512, 'x')), Agreement::agrees);
    EXPECT_EQ(judge("pdb", "PK\3\4 and so on" + std::string(512, 'x')), Agreement::disagrees);
}

TEST(Formats, OrItDoesNot) {
    EXPECT_EQ(judge("jpg", "PK\3\4 and so on"), Agreement::disagrees);
    EXPECT_EQ(judge("wav", "RIFF....AVI LIST"), Agreement::disagrees);
    EXPECT_EQ(judge("csv", std::string_view("a;b\0c;d", 7)), Agreement::disagrees);
    EXPECT_EQ(judge("jpg", std::string(512, '\0')), Agreement::blank);
    EXPECT_EQ(judge("txt", std::string(512, '\xFF')), Agreement::blank);
}

TEST(Formats, TextFitsAsAnyTextWould) {
    EXPECT_EQ(judge("csv", "ring;date\r\nSK1;2026\r\n"), Agreement::fits);
    EXPECT_EQ(judge("txt", "Küken\n"), Agreement::fits);
    EXPECT_EQ(judge("txt", std::string_view("\xFF\xFEK\0", 4)), Agreement::fits);
}

TEST(Formats, UnknownNamesSayNothing) {
    EXPECT_EQ(judge("xyz", "anything"), Agreement::unknown);
    EXPECT_EQ(judge("", "anything"), Agreement::unknown);
    EXPECT_EQ(judge("tar", "shorter than where its mark stands"), Agreement::unknown);
}

TEST(Formats, AreFoundByTheirHead) {
    const auto gif = test::bytes_of("GIF89a....");
    EXPECT_EQ(format_with_head(ByteView(gif))->name, "gif");
    const auto nothing = test::bytes_of("nothing in particular");
    EXPECT_EQ(format_with_head(ByteView(nothing)), nullptr);
}

TEST(Formats, KindsComeFromNames) {
    EXPECT_EQ(kind_of_name("NEST0001.JPG"), Kind::picture);
    EXPECT_EQ(kind_of_name("storm petrel.wav"), Kind::audio);
    EXPECT_EQ(kind_of_name("log.csv"), Kind::document);
    EXPECT_EQ(kind_of_name("what.ever"), Kind::other);
    EXPECT_EQ(kind_from_word("mail"), Kind::mail);
    EXPECT_FALSE(kind_from_word("mails"));
}

}  // namespace
}  // namespace dredger
