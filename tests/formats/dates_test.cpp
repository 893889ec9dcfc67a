// Dates and headers as documents and mail write them.
#include "formats/dates.h"

#include <gtest/gtest.h>

#include "formats/mail_header.h"

namespace dredger::formats {
namespace {

std::string told(const std::optional<FileTime>& time) {
    return time ? iso8601(*time) + (time->clock == FileTime::Clock::local ? " local" : "") : "none";
}

TEST(Dates, OfXmlKnowTheirZone) {
    EXPECT_EQ(told(xml_date("2026-05-03T09:12:44Z")), "2026-05-03T09:12:44Z");
    EXPECT_EQ(told(xml_date("2026-05-03T11:12:44.123456789+02:00")), "2026-05-03T09:12:44Z");
    EXPECT_EQ(told(xml_date("2026-05-03T05:42:44-0330")), "2026-05-03T09:12:44Z");
    EXPECT_EQ(told(xml_date(" 2026-05-03T09:12:44.5")), "2026-05-03T09:12:44 local");
    EXPECT_EQ(told(xml_date("2026-05-03")), "2026-05-03T00:00:00 local");
    EXPECT_EQ(told(xml_date("2026")), "2026-01-01T00:00:00 local");
    for (const char* nonsense : {"", "yesterday", "2026-13-03T09:12:44Z", "2026-05-03T25:12:44Z", "T09:12:44Z"})
        EXPECT_EQ(told(xml_date(nonsense)), "none") << nonsense;
}

TEST(Dates, OfPdfMayBeCutAnywhere) {
    EXPECT_EQ(told(pdf_date("D:20260503111244+02'00'")), "2026-05-03T09:12:44Z");
    EXPECT_EQ(told(pdf_date("D:20260503111244+02'00")), "2026-05-03T09:12:44Z");
    EXPECT_EQ(told(pdf_date("D:20260503091244Z")), "2026-05-03T09:12:44Z");
    EXPECT_EQ(told(pdf_date("D:20260503091244Z00'00'")), "2026-05-03T09:12:44Z");
    EXPECT_EQ(told(pdf_date("20260503091244")), "2026-05-03T09:12:44 local");
    EXPECT_EQ(told(pdf_date("D:2026050309")), "2026-05-03T09:00:00 local");
    EXPECT_EQ(told(pdf_date("D:202605")), "2026-05-01T00:00:00 local");
    EXPECT_EQ(told(pdf_date("D:2026")), "2026-01-01T00:00:00 local");
    for (const char* nonsense : {"", "D:", "D:12", "D:20261503091244", "(none)"})
        EXPECT_EQ(told(pdf_date(nonsense)), "none") << nonsense;
}

TEST(MailHeader, IsUnfoldedAndDecoded) {
    const MailHeader header = read_mail_header(
        "From: Warden <warden@skerrow.example>\r\n"
        "SUBJECT: =?utf-8?Q?K=C3=BCstenseeschwalbe?= and\r\n =?iso-8859-1?B?a/xja2Vu?=\r\n"
        "Date: Sun, 3 May 2026 11:12:44 +0200\r\n");
    EXPECT_EQ(header.subject, "Küstenseeschwalbe and kücken");
    EXPECT_EQ(told(header.date), "2026-05-03T09:12:44Z");
}

TEST(MailHeader, MayBeBrokenOrEmpty) {
    EXPECT_EQ(read_mail_header("").subject, "");
    EXPECT_EQ(told(read_mail_header("Date: soon\n").date), "none");
    EXPECT_EQ(read_mail_header("Subject: =?utf-8?B?%%%").subject.empty(), false);
    EXPECT_EQ(read_mail_header(std::string("Subject: a\0b\n", 13)).subject.substr(0, 1), "a");
    EXPECT_EQ(read_mail_header(std::string(70'000, 'x')).subject, "");
}

}  // namespace
}  // namespace dredger::formats
