// Previews of the demo medium's finds: what is written, and that the page only ever shows text.
#include "preview/preview.h"

#include <gmock/gmock.h>
#include <nlohmann/json.hpp>

#include "preview/canvas.h"
#include "preview/page.h"
#include "scanning/scan_fixture.h"
#include "support/support.h"

namespace dredger {
namespace {

const preview::PageFacts kFacts{"card.dredge", "a catalog's own", 1};

namespace fs = std::filesystem;
using test::TempFolder;
using testing::HasSubstr;
using testing::Not;

preview::Shown shown(const std::string& name) {
    preview::Shown one;
    one.candidate.id = 7;
    one.candidate.record.folder = "Nest camera";
    one.candidate.record.name = name;
    one.candidate.prospect = {60, Band::patchy, Check::damaged, {"its end is \"gone\""}};
    one.tile.likeness = 0xAB;
    one.tile.text = "a < b & </script><script>alert(1)</script>";
    return one;
}

nlohmann::json data_of(const std::string& page) {
    const std::string start = "id=\"finds\">";
    const std::size_t from = page.find(start) + start.size();
    return nlohmann::json::parse(page.substr(from, page.find("</script>", from) - from));
}

TEST(Page, KeepsWhateverNamesAndTextsSayAsText) {
    const std::string page = preview::page_of({shown("</script><img src=x onerror=alert(1)>.jpg")}, kFacts);
    EXPECT_THAT(page, Not(HasSubstr("<img src=x")));
    EXPECT_THAT(page, Not(HasSubstr("alert(1)</script>")));
    const auto data = data_of(page);
    EXPECT_EQ(data["catalog"], "card.dredge");
    ASSERT_EQ(data["finds"].size(), 1U);
    const auto& find = data["finds"][0];
    EXPECT_EQ(find["name"], "</script><img src=x onerror=alert(1)>.jpg");
    EXPECT_EQ(find["text"], "a < b & </script><script>alert(1)</script>");
    EXPECT_EQ(find["likeness"], "00000000000000ab");
    EXPECT_EQ(find["modified"], nullptr);
    EXPECT_EQ(find["band"], "patchy");
}

TEST(Page, NeedsNoNetworkAndAllowsNone) {
    const std::string page = preview::page_of({shown("a.jpg")}, kFacts);
    EXPECT_THAT(page, HasSubstr("default-src 'none'"));
    EXPECT_THAT(page, Not(HasSubstr("http://")));
    EXPECT_THAT(page, Not(HasSubstr("https://")));
    EXPECT_THAT(page, Not(HasSubstr("innerHTML")));
}

TEST(Page, BytesThatAreNoCharactersDoNotBreakIt) {
    EXPECT_EQ(data_of(preview::page_of({shown("\xFF\xFE.jpg")}, kFacts))["finds"].size(), 1U);
}

TEST(Page, SaysThatItWasInterrupted) {
    EXPECT_EQ(data_of(preview::page_of({shown("a.jpg"), shown("b.jpg")}, {"card.dredge", "", 1}))["looked_at"], 1);
}

TEST(Canvas, HatchesWhatWasLost) {
    const TempFolder folder;
    preview::Picture half = {40, 40, std::vector<std::uint32_t>(1600, 0x0000FF), 20};
    preview::Canvas canvas(40, 40, 0);
    canvas.picture(half, 0, 0, 40, 40);
    ASSERT_TRUE(canvas.write_png(folder / "half.png"));
    const auto back = preview::Canvas::from_png(folder / "half.png");
    ASSERT_NE(back, nullptr);
    EXPECT_EQ(back->width(), 40);
    EXPECT_EQ(preview::Canvas::from_png(folder / "none.png"), nullptr);
    EXPECT_FALSE(canvas.write_png(folder / "no such folder" / "half.png"));
}

class PreviewTest : public testing::Test {
  protected:
    void SetUp() override {
        const auto image = test::unpack_to("ringing-station-drive", folder_.path());
        auto catalog = Catalog::open_for_scan(folder_ / "drive.dredge");
        ASSERT_TRUE(catalog);
        test::Listener listener;
        ScanRequest request;
        request.source = image;
        ASSERT_TRUE(scan(*catalog, request, listener));
        catalog_ = std::make_unique<Catalog>(std::move(*catalog));
        request_.attach.destination = folder_ / "look";
    }
    TempFolder folder_;
    std::unique_ptr<Catalog> catalog_;
    PreviewRequest request_;
    test::Listener listener_;
};

TEST_F(PreviewTest, WritesAPictureOfEachKind) {
    const auto report = make_previews(*catalog_, request_, listener_);
    ASSERT_TRUE(report) << report.error().line();
    EXPECT_EQ(report->files, 53U);
    EXPECT_GE(report->pictures, 43U);
    EXPECT_EQ(report->failed, 0U);
    EXPECT_EQ(report->sheets, 4U);
    const auto finds = data_of(test::read_text(folder_ / "look/index.html"))["finds"];
    ASSERT_EQ(finds.size(), 53U);
    std::map<std::string, unsigned> seen;
    for (const auto& find : finds) {
        const std::string id = std::to_string(find["id"].get<int>());
        EXPECT_EQ(find["picture"].get<bool>(), fs::exists(folder_ / ("look/tiles/" + id + ".png"))) << find["path"];
        EXPECT_EQ(find["clip"].get<bool>(), fs::exists(folder_ / ("look/clips/" + id + ".wav"))) << find["path"];
        EXPECT_EQ(!find["text"].get<std::string>().empty(), fs::exists(folder_ / ("look/texts/" + id + ".txt")));
        if (find["picture"]) ++seen[find["kind"]];
        EXPECT_TRUE(find["clip"].get<bool>() || find["format"] != "wav") << find["path"];
        EXPECT_TRUE(find["text"] != "" || find["format"] != "docx" || find["band"] != "sound") << find["path"];
    }
    for (const char* kind : {"picture", "video", "audio", "document"}) EXPECT_GT(seen[kind], 0U) << kind;
}

TEST_F(PreviewTest, TakesWhatIsSelectedInOrderUpToTheLimit) {
    request_.selection.kinds = {Kind::picture};
    request_.order = {Order::By::size, true};
    request_.most = 3;
    const auto report = make_previews(*catalog_, request_, listener_);
    ASSERT_TRUE(report);
    EXPECT_EQ(report->files, 3U);
    const auto finds = data_of(test::read_text(folder_ / "look/index.html"))["finds"];
    ASSERT_EQ(finds.size(), 3U);
    EXPECT_GE(finds[0]["size"], finds[1]["size"]);
    request_.selection.names = {"nothing.*"};
    EXPECT_EQ(make_previews(*catalog_, request_, listener_)->files, 0U);
}

TEST_F(PreviewTest, RefusesAMediumThatIsNotTheOneScanned) {
    test::write_text(folder_ / "other.img", std::string(1 << 20, 'x'));
    request_.attach.source = folder_ / "other.img";
    const auto report = make_previews(*catalog_, request_, listener_);
    ASSERT_FALSE(report);
    EXPECT_EQ(report.error().kind, ErrorKind::unsafe);
    EXPECT_FALSE(fs::exists(folder_ / "look"));
    request_.attach.source = folder_ / "missing.img";
    EXPECT_THAT(make_previews(*catalog_, request_, listener_).error().line(), HasSubstr("--source PATH"));
}

}  // namespace
}  // namespace dredger
