// Stores in which messages stand as they travelled.
#include <gmock/gmock.h>
#include <nlohmann/json.hpp>

#include "stores/opened_store.h"

namespace dredger {
namespace {

using test::bytes_of;
using test::OpenedStore;
using testing::Contains;
using testing::ElementsAre;
using testing::HasSubstr;

const std::string kFromLine = "From ada@skerry.example Mon Mar  2 09:00:00 2026\n";

std::string mail(const std::string& subject, const std::string& body, const std::string& more = "") {
    return "From: Ada Skua <ada@skerry.example>\nTo: Maren Holm <maren@skerry.example>\nSubject: " + subject +
           "\nDate: Mon, 02 Mar 2026 09:00:00 +0000\n" + more + "\n" + body;
}

std::vector<std::string> names_of(const OpenedStore& store) {
    std::vector<std::string> names;
    for (const Record& record : store.found.records) names.push_back(record.name);
    return names;
}

TEST(Mailbox, GivesEachMessageAsItWasSent) {
    const std::string first = mail("Ring order", "ten\n"), second = mail("Permit", "for ledge 4\n\n\n");
    const OpenedStore store(bytes_of(kFromLine + first + "\n" + kFromLine + second + "\n"), "mbox");
    EXPECT_EQ(store.contents(), (std::multiset<std::string>{first, second}));
    EXPECT_THAT(names_of(store), ElementsAre("2026-03-02 Ring order.eml", "2026-03-02 Permit.eml"));
    EXPECT_EQ(test::fact_of(store.found.records[0], "to"), "Maren Holm <maren@skerry.example>");
}

TEST(Mailbox, LinesThatWereQuotedAreAsTheyWereSent) {
    const std::string sent = mail("Seen", "From the hide: none.\n");
    std::string kept = sent;
    kept.insert(kept.rfind("From the hide"), ">");
    EXPECT_EQ(OpenedStore(bytes_of(kFromLine + kept), "mbox").contents(), std::multiset<std::string>{sent});
}

TEST(Mailbox, LinesOfAQuotationStayAsTheyAre) {
    const std::string sent = mail("Re: Seen", "> They wrote:\n>From the hide: none.\n> So be it.\n");
    EXPECT_EQ(OpenedStore(bytes_of(kFromLine + sent), "mbox").contents(), std::multiset<std::string>{sent});
}

TEST(Mailbox, ALineOfTextIsNoMessage) {
    const std::string sent = mail("Seen", "Yesterday.\n\nFrom here we went home.\n");
    EXPECT_EQ(OpenedStore(bytes_of(kFromLine + sent), "mbox").contents(), std::multiset<std::string>{sent});
}

TEST(Mailbox, ALengthIsBelievedWhereAMessageFollows) {
    const std::string body = "From ada@skerry.example Mon Mar  2 10:00:00 2026\nis no message here.\n";
    const std::string sent = mail("Length", body, "Content-Length: " + std::to_string(body.size()) + "\n");
    const std::string next = mail("Next", "x\n");
    const OpenedStore store(bytes_of(kFromLine + sent + "\n" + kFromLine + next), "mbox");
    EXPECT_EQ(store.contents(), (std::multiset<std::string>{sent, next}));
}

TEST(Mailbox, WhatIsMarkedAndNotCompactedIsDeleted) {
    const std::string gone = mail("Gone", "x\n", "X-Mozilla-Status: 0009\n"),
                      there = mail("There", "y\n", "X-Mozilla-Status: 0001\n");
    const OpenedStore store(bytes_of(kFromLine + gone + "\n" + kFromLine + there), "mbox");
    EXPECT_EQ(store.contents(State::deleted), std::multiset<std::string>{gone});
    EXPECT_EQ(store.contents(), std::multiset<std::string>{there});
}

TEST(Mailbox, WhatWasOnlyMovedIsToldOnce) {
    const std::string id = "Message-ID: <7@skerry.example>\n";
    const std::string there = mail("Moved", "x\n", id), was = mail("Moved", "x\n", id + "X-Mozilla-Status: 0009\n");
    const OpenedStore store(bytes_of(kFromLine + was + "\n" + kFromLine + there), "mbox");
    EXPECT_EQ(store.contents(), std::multiset<std::string>{there});
    EXPECT_TRUE(store.contents(State::deleted).empty());
}

TEST(Mailbox, AttachmentsAreFindsBelowTheirMessage) {
    const std::string sent = mail("Nest",
                                  "--b\n\nsee\n--b\nContent-Type: image/gif; name=\"nest 4.gif\"\n"
                                  "Content-Transfer-Encoding: base64\n\nR0lGODlh\n--b--\n",
                                  "Content-Type: multipart/mixed; boundary=b\n");
    const OpenedStore store(bytes_of(kFromLine + sent), "mbox");
    const Record* picture = store.find("store/2026-03-02 Nest/nest 4.gif");
    ASSERT_NE(picture, nullptr);
    EXPECT_EQ(store.content(*picture), "GIF89a");
    EXPECT_EQ(test::fact_of(*picture, "attached to"), "store/2026-03-02 Nest.eml");
}

TEST(MailFolder, HasAllThatPythonWroteThere) {
    const OpenedStore store(test::unpacked("mail-folder"), "tar");
    ASSERT_TRUE(store.is_store());
    std::multiset<std::string> all;
    for (const State state : {State::live, State::trashed, State::deleted}) all.merge(store.contents(state));
    for (const auto& message : test::truth_of("mail-folder")["messages"]) {
        std::string wanted = message;
        if (wanted.find("6.march") != std::string::npos) continue;  // was marked when it was put there
        EXPECT_TRUE(all.contains(wanted)) << wanted.substr(0, 200);
    }
    EXPECT_NE(store.find("store/Maildir/Sent/2026/2026-03-06 Ring order 4.eml"), nullptr);
    EXPECT_NE(store.find("store/Maildir/2026-03-10 Ring order 8.eml", State::trashed), nullptr);
    EXPECT_NE(store.find("store/Local/Trash/2026-03-03 Permit for ledge 4 1.eml", State::trashed), nullptr);
    EXPECT_NE(store.find("store/Inbox/2026-03-08 Nest camera 6.eml", State::deleted), nullptr);
}

TEST(MailFolder, AnArchiveWithoutMailIsNone) {
    const auto samples = test::samples();
    const auto archive = std::find_if(samples.begin(), samples.end(),
                                      [](const auto& sample) { return sample.first.starts_with("tar-"); });
    ASSERT_NE(archive, samples.end());
    EXPECT_FALSE(OpenedStore(archive->second, "tar").is_store());
}

TEST(MessageFile, IsReadAsItStands) {
    const std::string sent = mail("Alone", "x\n");
    EXPECT_EQ(OpenedStore(bytes_of(sent), "eml").contents(), std::multiset<std::string>{sent});
    EXPECT_FALSE(OpenedStore(bytes_of(sent), "").is_store());
}

TEST(MessageFile, OfAMacStandsBetweenItsLengthAndAList) {
    const std::string sent = mail("Alone", "x\n");
    const std::string file = std::to_string(sent.size()) + "      \n" + sent + "<?xml version=\"1.0\"?><plist/>\n";
    EXPECT_EQ(OpenedStore(bytes_of(file), "eml").contents(), std::multiset<std::string>{sent});
    const OpenedStore cut(bytes_of(file.substr(0, 60)), "eml");
    ASSERT_EQ(cut.found.records.size(), 1U);
    EXPECT_EQ(cut.found.records[0].trust, LayoutTrust::damaged);
    EXPECT_THAT(cut.found.records[0].notes, Contains("its end is missing"));
}

std::string archived(const std::vector<std::pair<std::string, std::string>>& files) {
    const test::TempFolder folder;
    for (const auto& [name, text] : files) {
        std::filesystem::create_directories((folder / name).parent_path());
        test::write_text(folder / name, text);
    }
    const std::string command = "tar -C '" + folder.path().string() + "' --format=ustar -cf '" +
                                (folder / "all.tar").string() + "' " +
                                files.front().first.substr(0, files.front().first.find('/'));
    EXPECT_EQ(std::system(command.c_str()), 0);
    return test::read_text(folder / "all.tar");
}

TEST(MailFolder, PartsThatAreKeptBesideAMessageAreItsAttachments) {
    const std::string sent = mail("Nest", "see\n");
    const OpenedStore store(bytes_of(archived({{"INBOX.mbox/Messages/17.partial.emlx",
                                                std::to_string(sent.size()) + "\n" + sent + "<plist/>"},
                                               {"INBOX.mbox/Attachments/17/2/nest.txt", "an egg\n"},
                                               {"INBOX.mbox/Attachments/18/2/other.txt", "of another one\n"}})),
                            "tar");
    const Record* nest = store.find("store/INBOX/2026-03-02 Nest/nest.txt");
    ASSERT_NE(nest, nullptr);
    EXPECT_EQ(store.content(*nest), "an egg\n");
    EXPECT_EQ(store.found.records.size(), 2U);
    EXPECT_THAT(store.found.records[0].notes,
                Contains("what was attached to it is kept in files of its own, not in it"));
}

// A store of segments as the public description of it says: two messages, one of which no record tells of.
class Segments {
  public:
    std::string bytes = std::string(0x400, '\0');

    void put32(std::size_t at, std::uint32_t value) {
        for (std::size_t i = 0; i < 4; ++i) bytes[at + i] = static_cast<char>(value >> (8 * i));
    }
    std::uint32_t add_message(const std::string& text) {
        const auto first = static_cast<std::uint32_t>(bytes.size());
        for (std::size_t from = 0; from < text.size(); from += 0x200) {
            const std::string part = text.substr(from, 0x200);
            const std::size_t at = bytes.size();
            bytes.resize(at + 16 + 0x200);
            put32(at, static_cast<std::uint32_t>(at));
            put32(at + 4, 0x200);
            put32(at + 8, static_cast<std::uint32_t>(part.size()));
            put32(at + 12, from + 0x200 < text.size() ? static_cast<std::uint32_t>(bytes.size()) : 0);
            bytes.replace(at + 16, part.size(), part);
        }
        return first;
    }
    void list(std::uint32_t message) {
        const auto record = static_cast<std::uint32_t>(bytes.size()), node = record + 16;
        bytes.resize(bytes.size() + 16 + 24 + 12);
        put32(record, record);
        put32(record + 8, 1U << 16);
        put32(record + 12, 0x84U | message << 8);
        put32(node, node);
        put32(node + 16, 1U << 8);
        put32(node + 24, record);
        put32(0xE4, node);
        bytes.replace(0, 8, std::string("\xCF\xAD\x12\xFE\xC5\xFD\x74\x6F", 8));
    }
};

TEST(SegmentedStore, TellsListedAndDeletedMessages) {
    const std::string there = mail("There", std::string(1500, 'x') + "\n"),
                      gone = mail("Gone", std::string(700, 'y') + "\n");
    Segments file;
    const std::uint32_t listed = file.add_message(there);
    file.add_message(gone);
    file.list(listed);
    const OpenedStore store(bytes_of(file.bytes), "");
    ASSERT_TRUE(store.is_store());
    EXPECT_EQ(store.contents(), std::multiset<std::string>{there});
    EXPECT_EQ(store.contents(State::deleted), std::multiset<std::string>{gone});
}

TEST(SegmentedStore, AChainThatLeadsInACircleEnds) {
    Segments file;
    const std::uint32_t listed = file.add_message(mail("There", std::string(1500, 'x') + "\n"));
    file.put32(listed + 16 + 0x200 + 12, listed);
    file.list(listed);
    const OpenedStore store(bytes_of(file.bytes), "dbx");
    ASSERT_EQ(store.found.records.size(), 1U);
    EXPECT_EQ(store.found.records[0].trust, LayoutTrust::damaged);
}

TEST(StandingDamage, ChangedBytesComeToAnEnd) {
    const auto image = test::unpacked("mail-folder");
    std::uint64_t state = test::seed_of(7);
    const auto next = [&](std::uint64_t below) {
        state = state * 6364136223846793005U + 1442695040888963407U;
        return static_cast<std::size_t>((state >> 33) % below);
    };
    for (unsigned copy = 0; copy < test::affordable(600); ++copy) {
        auto damaged = image;
        for (unsigned n = 0; n < 30; ++n) damaged[next(damaged.size())] = static_cast<std::byte>(next(256));
        damaged.resize(next(damaged.size()) + 1);
        const OpenedStore store(std::move(damaged), copy % 2 == 0 ? "tar" : "mbox");
        for (const Record& record : store.found.records) EXPECT_LE(record.size, image.size() * 2);
    }
}

}  // namespace
}  // namespace dredger
