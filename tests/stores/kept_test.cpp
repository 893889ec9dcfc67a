// Messages that are kept as properties: saved by a mail program, and wrapped when sent.
#include <gmock/gmock.h>
#include <sqlite3.h>

#include "stores/mapi/rtf.h"
#include "stores/opened_store.h"

namespace dredger {
namespace {

using test::OpenedStore;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::Not;

TEST(SavedMessage, ComesWithItsAttachment) {
    const OpenedStore store(test::unpacked("mail-msg-plain-jpeg-attached"), "");
    ASSERT_TRUE(store.is_store());
    const Record* mail = store.find("store/2007-09-24 test.eml");
    const Record* picture = store.find("store/2007-09-24 test/test.jpg");
    ASSERT_NE(mail, nullptr);
    ASSERT_NE(picture, nullptr);
    const std::string text = store.content(*mail);
    EXPECT_THAT(text, HasSubstr("\r\nMessage-ID: <20070924132803.GB10141@matijs.net>\r\n"));
    EXPECT_THAT(text, HasSubstr("Content-Disposition: attachment; filename=test.jpg\r\n"));
    EXPECT_EQ(store.content(*picture).substr(0, 3), "\xFF\xD8\xFF");
    EXPECT_EQ(picture->size, 7681U);
}

TEST(SavedMessage, OfAnotherCharacterSetIsUnicode) {
    const OpenedStore store(test::unpacked("mail-msg-plain-uc-wc-unsent"), "");
    ASSERT_EQ(store.found.records.size(), 1U);
    const Record& draft = store.found.records[0];
    EXPECT_EQ(test::fact_of(draft, "draft"), "never sent");
    EXPECT_EQ(test::fact_of(draft, "header"), "rebuilt from the store's fields");
    EXPECT_THAT(store.content(draft), HasSubstr("The body is in p=E6=B1=ACain text"));
}

TEST(SavedMessage, ASignatureHoldsOfTheBytesThatWereSigned) {
    const OpenedStore store(test::unpacked("mail-msg-gpg-signed"), "");
    const Record* mail = store.find("store/2007-02-26 Test for MSGConvert.eml");
    ASSERT_NE(mail, nullptr);
    EXPECT_NE(test::fact_of(*mail, "signed"), "");
    const std::string text = store.content(*mail);
    EXPECT_THAT(text, HasSubstr("Content-Type: multipart/signed;"));
    EXPECT_THAT(text, HasSubstr("-----BEGIN PGP SIGNATURE-----"));
}

TEST(SavedMessage, WithMissingSectorsSaysSo) {
    auto image = test::unpacked("mail-msg-plain-jpeg-attached");
    image.resize(image.size() - 6 * 512);
    const OpenedStore store(std::move(image), "");
    if (!store.is_store()) return;  // its directory stood there
    for (const Record& record : store.found.records) {
        std::vector<Extent> bad;
        (void)store.content(record, &bad);
        EXPECT_TRUE(bad.empty() || record.trust == LayoutTrust::damaged) << record.path();
    }
}

TEST(SavedMessage, DamagedOnesComeToAnEnd) {
    const auto image = test::unpacked("mail-msg-charset");
    std::uint64_t state = test::seed_of(11);
    const auto next = [&](std::uint64_t below) {
        state = state * 6364136223846793005U + 1442695040888963407U;
        return static_cast<std::size_t>((state >> 33) % below);
    };
    for (unsigned copy = 0; copy < test::affordable(1000); ++copy) {
        auto damaged = image;
        for (unsigned n = 0; n < 12; ++n) damaged[next(damaged.size())] = static_cast<std::byte>(next(256));
        const OpenedStore store(std::move(damaged), "");
        for (const Record& record : store.found.records) (void)store.content(record);
    }
}

// A wrapped message as [MS-OXTNEF] tells: attributes of a level, an id, a length and a sum each.
std::string attribute(char level, std::uint32_t id, const std::string& data) {
    std::string bytes(1, level);
    for (const std::uint32_t number : {id, static_cast<std::uint32_t>(data.size())})
        for (unsigned i = 0; i < 4; ++i) bytes += static_cast<char>(number >> (8 * i));
    return bytes + data + std::string(2, '\0');
}

std::string wrapped_message() {
    using namespace std::string_literals;
    return "\x78\x9F\x3E\x22\x01\x00"s + attribute(1, 0x00078008, "IPM.Note\0"s) +
           attribute(1, 0x00018004, "Ring order\0"s) + attribute(1, 0x0002800C, "Ten rings, please.\0"s) +
           attribute(2, 0x00069002, std::string(14, '\0')) + attribute(2, 0x00018010, "order.csv\0"s) +
           attribute(2, 0x0006800F, "ring;count\n");
}

TEST(WrappedMessage, GivesItsTextAndAttachments) {
    const OpenedStore store(test::bytes_of(wrapped_message()), "");
    ASSERT_TRUE(store.is_store());
    const Record* mail = store.find("store/Ring order.eml");
    const Record* table = store.find("store/Ring order/order.csv");
    ASSERT_NE(mail, nullptr);
    ASSERT_NE(table, nullptr);
    EXPECT_THAT(store.content(*mail), HasSubstr("\r\n\r\nTen rings, please."));
    EXPECT_EQ(store.content(*table), "ring;count\n");
}

TEST(WrappedMessage, CutAnywhereItComesToAnEnd) {
    const std::string whole = wrapped_message();
    std::size_t unnoticed = 0;
    for (std::size_t size = 6; size < whole.size(); ++size) {
        const OpenedStore store(test::bytes_of(whole.substr(0, size)), "");
        ASSERT_FALSE(store.found.records.empty());
        unnoticed += store.found.records[0].trust == LayoutTrust::exact ? 1 : 0;
    }
    EXPECT_LE(unnoticed, 6U) << "more than where an attribute ends: nothing tells how many there are";
}

// A database as the mail program declares it.
std::vector<std::byte> database_of(const std::string& sql) {
    const test::TempFolder folder;
    const auto file = folder / "book.sqlite";
    sqlite3* handle = nullptr;
    EXPECT_EQ(sqlite3_open(file.c_str(), &handle), SQLITE_OK);
    EXPECT_EQ(sqlite3_exec(handle, sql.c_str(), nullptr, nullptr, nullptr), SQLITE_OK) << sqlite3_errmsg(handle);
    sqlite3_close(handle);
    return test::bytes_of(test::read_text(file));
}

TEST(AddressBook, CardsBecomeVcards) {
    const OpenedStore store(
        database_of("CREATE TABLE properties (card TEXT, name TEXT, value TEXT);"
                    "INSERT INTO properties VALUES ('1', 'DisplayName', 'Ada Skua'), ('1', 'PrimaryEmail', "
                    "'ada@skerry.example'),"
                    "('1', 'CellularNumber', '+44 1'), ('2', 'DisplayName', 'Maren'),"
                    "('2', '_vCard', 'BEGIN:VCARD' || char(10) || 'FN:Maren' || char(10) || 'END:VCARD');"),
        "");
    ASSERT_TRUE(store.is_store());
    const Record* ada = store.find("store/Ada Skua.vcf");
    const Record* maren = store.find("store/Maren.vcf");
    ASSERT_NE(ada, nullptr);
    ASSERT_NE(maren, nullptr);
    EXPECT_THAT(store.content(*ada), HasSubstr("EMAIL;TYPE=INTERNET:ada@skerry.example\r\nTEL;TYPE=CELL:+44 1\r\n"));
    EXPECT_EQ(store.content(*maren), "BEGIN:VCARD\r\nFN:Maren\r\nEND:VCARD");
}

TEST(AddressBook, EventsBecomeCalendars) {
    const OpenedStore store(
        database_of("CREATE TABLE cal_events (id TEXT, title TEXT, event_start INTEGER, event_end INTEGER);"
                    "CREATE TABLE cal_properties (item_id TEXT, key TEXT, value TEXT);"
                    "INSERT INTO cal_events VALUES ('e', 'Ring day', 1772442000000000, 1772445600000000);"
                    "INSERT INTO cal_properties VALUES ('e', 'LOCATION', 'Ledge 4');"),
        "");
    const Record* day = store.find("store/2026-03-02 Ring day.ics");
    ASSERT_NE(day, nullptr);
    EXPECT_THAT(store.content(*day), HasSubstr("DTSTART:20260302T090000Z\r\nDTEND:20260302T100000Z\r\n"));
    EXPECT_THAT(store.content(*day), HasSubstr("LOCATION:Ledge 4\r\n"));
}

TEST(AddressBook, OtherDatabasesAreNone) {
    EXPECT_FALSE(
        OpenedStore(database_of("CREATE TABLE rings (ring TEXT); INSERT INTO rings VALUES ('D4471');"), "").is_store());
}

namespace rtf {

using stores::mapi::text_in_rtf;
using stores::mapi::unpack_rtf;
using namespace std::string_literals;

// The two examples of [MS-OXRTFCP] 4.
TEST(PackedRtf, IsUnpackedAsItsSpecificationSays) {
    const std::string simple =
        "\x2D\x00\x00\x00\x2B\x00\x00\x00\x4C\x5A\x46\x75\xF1\xC5\xC7\xA7\x03\x00\x0A\x00\x72\x63\x70\x67\x31\x32\x35"
        "\x42"
        "\x32\x0A\xF3\x20\x68\x65\x6C\x09\x00\x20\x62\x77\x05\xB0\x6C\x64\x7D\x0A\x80\x0F\xA0"s;
    bool whole = true;
    EXPECT_EQ(unpack_rtf(simple, whole), "{\\rtf1\\ansi\\ansicpg1252\\pard hello world}\r\n");
    const std::string crossing =
        "\x1A\x00\x00\x00\x1C\x00\x00\x00\x4C\x5A\x46\x75\xE2\xD4\x4B\x51\x41\x00\x04\x20\x57\x58\x59\x5A\x0D\x6E\x7D"
        "\x01"
        "\x0E\xB0"s;
    EXPECT_EQ(unpack_rtf(crossing, whole), "{\\rtf1 WXYZWXYZWXYZWXYZWXYZ}");
    EXPECT_TRUE(whole);
    EXPECT_TRUE(unpack_rtf(simple.substr(0, 30), whole).has_value());
    EXPECT_FALSE(whole);
    EXPECT_FALSE(unpack_rtf("no RTF at all, but long enough", whole).has_value());
}

TEST(HtmlInRtf, IsTakenOut) {
    const auto text = text_in_rtf(
        "{\\rtf1\\ansi\\ansicpg1252\\fromhtml1 \\deff0{\\fonttbl{\\f0\\fswiss Arial;}}"
        "{\\*\\htmltag19 <html>}{\\*\\htmltag50 <body>}\\htmlrtf {\\htmlrtf0 {\\*\\htmltag64 <p>}\\htmlrtf "
        "\\par\\htmlrtf0 "
        "Ring \\'e4 \\u8364? \\{10\\}{\\*\\htmltag72 </p>}\\htmlrtf }\\htmlrtf0 {\\*\\htmltag58 </body>}}");
    EXPECT_EQ(text.html, "<html><body><p>Ring \u00E4 \u20AC {10}</p></body>");
    EXPECT_EQ(text.plain, "");
}

TEST(PlainTextInRtf, IsTakenOut) {
    EXPECT_EQ(
        text_in_rtf("{\\rtf1\\ansi\\fromtext \\fbidi{\\fonttbl{\\f0 Courier;}}\\pard Ten rings\\par please}").plain,
        "Ten rings\r\nplease");
    const auto real = text_in_rtf("{\\rtf1\\ansi\\b bold}");
    EXPECT_EQ(real.html + real.plain, "");
    EXPECT_EQ(real.words, "bold");
}

}  // namespace rtf
}  // namespace
}  // namespace dredger
