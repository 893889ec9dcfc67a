// How messages are written as internet mail, and contacts and appointments as cards.
#include "stores/composing.h"

#include <gmock/gmock.h>

#include "media/text_medium.h"
#include "stores/cards.h"
#include "stores/internet_message.h"
#include "support/support.h"

namespace dredger {
namespace {

using namespace stores;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::Not;
using testing::StartsWith;

std::string text_of(const Medium& medium) {
    std::string bytes(static_cast<std::size_t>(medium.size()), '\0');
    EXPECT_TRUE(medium.read(0, std::as_writable_bytes(std::span(bytes))));
    return bytes;
}

Message order() {
    Message message;
    message.subject = "Übersicht der Ringe";
    message.from = {"Maren Holm", "maren@skerry.example"};
    message.recipients = {{{"Ada Skua", "ada@skerry.example"}, Recipient::As::to},
                          {{"", "office@rings.example"}, Recipient::As::cc}};
    message.sent = FileTime{1772442000, 0, FileTime::Clock::utc};
    message.id = "<1@skerry.example>";
    message.plain = "Zehn Ringe für Lummen.\n";
    return message;
}

TEST(Composing, WhatIsWrittenReadsTheSame) {
    Message message = order();
    const std::string bytes(100'001, '\x07');
    message.attachments.push_back(
        {"Lumme ä.bin", "image/x-nest", "", false, std::make_shared<TextMedium>(bytes, "x"), nullptr});
    const std::string text = text_of(*compose(message));
    EXPECT_THAT(text, Not(HasSubstr("\n\n")));  // all lines end as mail's do
    const Message read = read_internet_message(text);
    EXPECT_EQ(read.subject, message.subject);
    EXPECT_EQ(read.from.text(), message.from.text());
    ASSERT_EQ(read.recipients.size(), 2U);
    EXPECT_EQ(read.recipients[1].address, "office@rings.example");
    EXPECT_EQ(read.sent, message.sent);
    EXPECT_EQ(read.id, message.id);
    ASSERT_EQ(read.attachments.size(), 1U);
    EXPECT_EQ(read.attachments[0].name, "Lumme ä.bin");
    EXPECT_EQ(text_of(*read.attachments[0].content), bytes);
}

TEST(Composing, AnyPartOfItCanBeReadAlone) {
    Message message = order();
    std::string bytes;
    for (unsigned n = 0; n < 300'000; ++n) bytes += static_cast<char>(n * 7 + n / 251);
    message.attachments.push_back({"nest.bin", "", "", false, std::make_shared<TextMedium>(bytes, "x"), nullptr});
    const MediumPtr composed = compose(message);
    const std::string whole = text_of(*composed);
    for (std::uint64_t at = 0; at + 90 < composed->size(); at += 9'973) {
        std::string part(90, '\0');
        ASSERT_TRUE(composed->read(at, std::as_writable_bytes(std::span(part))));
        EXPECT_EQ(part, whole.substr(static_cast<std::size_t>(at), 90)) << at;
    }
}

TEST(Composing, WhatCanNotBeReadOfAnAttachmentIsBadInTheMessage) {
    Message message = order();
    const auto nest = std::make_shared<test::MemoryMedium>(std::vector<std::byte>(4096, std::byte{1}));
    nest->make_unreadable({1024, 512});
    message.attachments.push_back({"nest.bin", "", "", false, nest, nullptr});
    const MediumPtr composed = compose(message);
    std::vector<std::byte> bytes(static_cast<std::size_t>(composed->size()));
    std::vector<Extent> bad;
    ASSERT_TRUE(composed->read(0, bytes, &bad));
    std::uint64_t lost = 0;
    for (const Extent& one : bad) lost += one.length;
    EXPECT_GE(lost, 512U * 4 / 3);
    EXPECT_LE(lost, 512U * 4 / 3 + 2 * 78 + 20);
}

TEST(Composing, AHeaderThatWasKeptStaysAsItIs) {
    Message message = order();
    message.headers =
        "Received: from a\n\tby b; Mon, 02 Mar 2026 09:00:00 +0000\r\nSubject: =?utf-8?q?=C3=9Cbersicht?=\n"
        "Content-Type: text/html;\n charset=x\nFrom: m@skerry.example\n";
    const std::string text = text_of(*compose(message));
    EXPECT_THAT(text,
                StartsWith("Received: from a\r\n\tby b; Mon, 02 Mar 2026 09:00:00 +0000\r\nSubject: =?utf-8?q?=C3"));
    EXPECT_THAT(text, Not(HasSubstr("charset=x")));
    EXPECT_THAT(text, HasSubstr("\r\nTo: Ada Skua <ada@skerry.example>\r\n"));  // which it lacked
    EXPECT_EQ(text.find("From:"), text.rfind("From:"));
}

TEST(Composing, NoFieldCanBringALineOfItsOwn) {
    Message message = order();
    message.subject = "Ring\r\nBcc: spy@elsewhere.example";
    message.attachments.push_back(
        {"a\r\nX-Evil: 1", "text/x\r\nX-Evil: 1", "", false, std::make_shared<TextMedium>("x", "x"), nullptr});
    const std::string text = text_of(*compose(message));
    EXPECT_THAT(text, Not(HasSubstr("\r\nBcc:")));
    EXPECT_THAT(text, Not(HasSubstr("\r\nX-Evil")));
}

TEST(Composing, PicturesOfTheTextStandBesideIt) {
    Message message = order();
    message.html = "<img src=\"cid:nest1\">";
    message.html_charset = "utf-8";
    message.attachments.push_back(
        {"nest.png", "image/png", "nest1", true, std::make_shared<TextMedium>("png", "x"), nullptr});
    const std::string text = text_of(*compose(message));
    EXPECT_THAT(text, HasSubstr("multipart/related"));
    EXPECT_THAT(text, HasSubstr("multipart/alternative"));
    EXPECT_THAT(text, HasSubstr("Content-Id: <nest1>"));
}

TEST(Cards, AContactIsAVcard) {
    Contact contact;
    contact.name = "Ada Skua; ringer";
    contact.given = "Ada";
    contact.family = "Skua";
    contact.addresses = {"ada@skerry.example"};
    contact.phones = {{"CELL", "+44 1"}};
    contact.note = "Line one\nline, two";
    const std::string card = vcard(contact);
    EXPECT_THAT(card, StartsWith("BEGIN:VCARD\r\nVERSION:3.0\r\nFN:Ada Skua\\; ringer\r\nN:Skua;Ada;;;\r\n"));
    EXPECT_THAT(card, HasSubstr("NOTE:Line one\\nline\\, two\r\n"));
    EXPECT_THAT(card, testing::EndsWith("END:VCARD\r\n"));
}

TEST(Cards, LongLinesAreFoldedBetweenCharacters) {
    Event event;
    for (unsigned n = 0; n < 60; ++n) event.summary += "ä ";
    std::size_t from = 0;
    const std::string text = icalendar(event);
    for (std::size_t end = text.find("\r\n"); end != std::string::npos; from = end + 2, end = text.find("\r\n", from)) {
        EXPECT_LE(end - from, 75U);
        EXPECT_NE(static_cast<unsigned char>(text[from]) & 0xC0U, 0x80U);
    }
    EXPECT_THAT(text, HasSubstr("BEGIN:VEVENT"));
}

TEST(Cards, ATaskHasWhatItsOwnerKnows) {
    Event task;
    task.is_task = task.is_done = true;
    task.summary = "Order rings";
    task.ends = FileTime{1772442000, 0, FileTime::Clock::utc};
    EXPECT_THAT(icalendar(task), HasSubstr("BEGIN:VTODO\r\n"));
    EXPECT_THAT(icalendar(task), HasSubstr("DUE:20260302T090000Z\r\n"));
    EXPECT_THAT(icalendar(task), HasSubstr("STATUS:COMPLETED\r\n"));
}

}  // namespace
}  // namespace dredger
