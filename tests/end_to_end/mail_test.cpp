// Mail as a technician gets it back: from a store, from a folder, and from stores on a drive.
#include <cstdlib>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <sstream>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;
using test::run_program;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class MailTest : public testing::Test {
  protected:
    std::string path(const std::string& name) const { return (folder_ / name).string(); }

    void scan(const std::string& source, std::vector<std::string> more = {}) {
        std::vector<std::string> words = {"scan", source, "-c", path("mail.dredge")};
        words.insert(words.end(), more.begin(), more.end());
        scan_ = run_program(words);
        ASSERT_EQ(scan_.exit_code, 0) << scan_.err;
    }
    std::vector<json> listed(std::vector<std::string> more) const {
        std::vector<std::string> words = {"list", path("mail.dredge"), "--as", "jsonl"};
        words.insert(words.end(), more.begin(), more.end());
        std::vector<json> list;
        std::istringstream out(run_program(words).out);
        for (std::string line; std::getline(out, line);) list.push_back(json::parse(line));
        return list;
    }

    test::TempFolder folder_;
    test::Ran scan_;
};

TEST_F(MailTest, AStoreIsScannedListedShownAndRestored) {
    scan(test::unpack_to("mail-pst", folder_.path()).string());
    EXPECT_THAT(scan_.out, HasSubstr("mail store PST Personal folders: 0 deleted and 149 other messages"));
    const auto found = listed({"--from-address", "ftenergy", "--sent", "2001-08"});
    ASSERT_EQ(found.size(), 1U);
    EXPECT_EQ(found[0]["kind"], "mail");
    EXPECT_EQ(found[0]["state"], "live");
    const std::string id = std::to_string(found[0]["id"].get<int>());
    const test::Ran shown = run_program({"show", path("mail.dredge"), id});
    EXPECT_THAT(shown.out, AllOf(HasSubstr("What it says"), HasSubstr("[attached: image001.gif, image/gif]"),
                                 HasSubstr("POWER MART '01"), Not(HasSubstr("How it begins"))));
    EXPECT_EQ(run_program({"restore", path("mail.dredge"), "--id", id, "--to", path("out")}).exit_code, 0);
    EXPECT_THAT(test::read_text(folder_ / ("out/" + found[0]["path"].get<std::string>())),
                HasSubstr("\r\nSubject: Power Mart '01"));
}

TEST_F(MailTest, MessagesAreChosenByWhatTheirHeadersSay) {
    scan(test::unpack_to("mail-folder", folder_.path()).string());
    EXPECT_EQ(listed({"--from-address", "maren@", "--kind", "mail"}).size(), 4U);
    EXPECT_EQ(listed({"--to-address", "MAREN"}).size(), 4U);
    EXPECT_EQ(listed({"--subject", "übersicht"}).size(), 3U);
    EXPECT_EQ(listed({"--subject", "Ring order 8"}).size(), 1U);
    EXPECT_EQ(listed({"--sent", "2026-03-03..2026-03-05"}).size(), 3U);
    EXPECT_EQ(listed({"--sent", "2026-03-03..2026-03-05", "--state", "deleted"}).size(), 0U);
    EXPECT_EQ(listed({"--contains", "we saw 6 puffins"}).size(), 1U);
    EXPECT_EQ(listed({}).size(), 7U) << "what is trashed or deleted";
}

TEST_F(MailTest, AFolderOfMailIsASource) {
    fs::create_directories(folder_ / "Maildir/cur");
    test::write_text(folder_ / "Maildir/cur/1.a:2,S", "From: ada@skerry.example\nSubject: Rings\n\nTen.\n");
    scan(path("Maildir"));
    const auto found = listed({"--state", "live"});
    ASSERT_EQ(found.size(), 1U);
    EXPECT_EQ(found[0]["path"], "Maildir/Rings.eml");
    EXPECT_THAT(run_program({"survey", path("Maildir")}).out, HasSubstr("mail folder"));
    fs::create_directories(folder_ / "empty");
    test::write_text(folder_ / "empty/notes.txt", "no mail\n");
    const test::Ran none = run_program({"scan", path("empty"), "-c", path("none.dredge")});
    EXPECT_EQ(none.exit_code, 3);
    EXPECT_THAT(none.err, HasSubstr("this is a folder, not a medium, and there is no mail in it"));
}

TEST_F(MailTest, MailboxesAreMadeForImport) {
    scan(test::unpack_to("mail-folder", folder_.path()).string());
    const test::Ran done = run_program({"restore", path("mail.dredge"), "--state", "live,trashed", "--kind", "mail",
                                        "--mail", "mbox", "--to", path("out")});
    EXPECT_EQ(done.exit_code, 0) << done.err;
    EXPECT_THAT(done.out, HasSubstr("messages in mail-folder/Inbox.mbox, for import into any mail program"));
    const std::string code =
        "import mailbox,sys; print(sorted(m['subject'] for m in mailbox.mbox(sys.argv[1])), "
        "sum('>From there' in m.as_string() for m in mailbox.mbox(sys.argv[1])))";
    const std::string command =
        "python3 -c \"" + code + "\" '" + path("out/mail-folder/Inbox.mbox") + "' > '" + path("read.txt") + "'";
    ASSERT_EQ(std::system(command.c_str()), 0);
    EXPECT_THAT(test::read_text(folder_ / "read.txt"), AllOf(HasSubstr("Nest camera 10"), HasSubstr("] 5")));
}

TEST_F(MailTest, StoresOnADriveAreReadWhereAskedFor) {
    fs::create_directories(folder_ / "drive/Mail");
    const fs::path store = test::unpack_to("mail-ost", folder_.path());
    fs::rename(store, folder_ / "drive/Mail/station.ost");
    test::write_text(
        folder_ / "drive/Mail/Inbox",
        "From ada Mon Mar  2 09:00:00 2026\nFrom: ada@skerry.example\nSubject: Rings\nDate: Mon, 02 Mar 2026 "
        "09:00:00 +0000\n\nTen.\n");
    const std::string command = "mke2fs -q -t ext4 -d '" + path("drive") + "' '" + path("drive.img") + "' 48M";
    ASSERT_EQ(std::system(command.c_str()), 0);
    scan(path("drive.img"));
    EXPECT_TRUE(listed({"--subject", "Rings"}).empty());
    scan(path("drive.img"), {"--mail"});
    EXPECT_THAT(scan_.out, HasSubstr("mail store PST Mail/station.ost: "));
    const auto rings = listed({"--subject", "Rings"});
    ASSERT_EQ(rings.size(), 1U);
    EXPECT_EQ(rings[0]["path"], "Mail/Inbox/2026-03-02 Rings.eml");
    const auto stores = listed({"--state", "live", "--name", "station.ost"});
    ASSERT_EQ(stores.size(), 1U);
    const std::string id = std::to_string(stores[0]["id"].get<int>());
    EXPECT_EQ(listed({"--in", id, "--format", "eml"}).size(), 14U);
    EXPECT_EQ(run_program({"restore", path("mail.dredge"), "--in", id, "--ext", "pdf", "--to", path("out")}).exit_code,
              0);
    EXPECT_THAT(run_program({"list", path("mail.dredge"), "--in", "1"}).err, HasSubstr("dredger scan --mail"));
    scan(path("drive.img"), {"--mail"});
    EXPECT_THAT(scan_.out, HasSubstr("in the catalog already"));
}

}  // namespace
}  // namespace dredger
