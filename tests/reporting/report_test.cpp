// The report on the demo medium: the page needs nothing beside it, and the DFXML says what the catalog says.
#include "reporting/report.h"

#include <fmt/format.h>
#include <gmock/gmock.h>

#include "base/csv.h"
#include "base/markup.h"
#include "reporting/figures.h"
#include "scanning/scan_fixture.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class ReportTest : public test::ScanFixture {
  protected:
    void SetUp() override {
        ScanRequest request;
        request.source = test::unpack_to("ringing-station-drive", folder_.path());
        ASSERT_TRUE(run(request));
        auto opened = Catalog::open(folder_ / "a.dredge");
        ASSERT_TRUE(opened);
        catalog_ = std::make_unique<Catalog>(std::move(*opened));
        request_.destination = folder_ / "report";
        request_.version = "0.1";
        request_.made = "2026-11-20 10:00 UTC";
    }
    std::string page() {
        const auto written = write_report(*catalog_, request_, listener_);
        EXPECT_TRUE(written) << written.error().line();
        return written ? test::read_text(*written) : std::string();
    }
    static std::size_t count(const std::string& text, const std::string& part) {
        std::size_t found = 0;
        for (std::size_t at = text.find(part); at != std::string::npos; at = text.find(part, at + 1)) ++found;
        return found;
    }
    std::unique_ptr<Catalog> catalog_;
    ReportRequest request_;
};

TEST_F(ReportTest, SaysWhatIsMissingWhereItWasInterrupted) {
    listener_.stop = true;
    const std::string html = page();
    EXPECT_THAT(
        html, AllOf(HasSubstr("This report was interrupted"), HasSubstr("\"When they went\""), Not(HasSubstr("<img"))));
}

TEST_F(ReportTest, ListsWhatWillNotComeBackWhole) {
    const std::string html = page();
    EXPECT_THAT(html, AllOf(HasSubstr("4 of the finds are not whole"), HasSubstr("DCIM/100NESTS/NEST0001.JPG")));
}

TEST_F(ReportTest, IsOnePageWithItsFigures) {
    const std::string html = page();
    EXPECT_THAT(html, AllOf(HasSubstr("53 files, "), HasSubstr("49 sound, 2 patchy, 0 faint, 2 gone"),
                            HasSubstr("RINGCARD"), HasSubstr("ringing-station-drive.img"),
                            HasSubstr("2026-11-20 10:00 UTC"), HasSubstr("Dredger 0.1")));
    EXPECT_EQ(count(html, "src=\"data:image/svg+xml;base64,"), 3U);
    EXPECT_THAT(html, AllOf(Not(HasSubstr("http://")), Not(HasSubstr("https://")), Not(HasSubstr("<script"))));
    for (const char* figure : {"map", "kinds", "deletions"}) {
        EXPECT_GT(fs::file_size(request_.destination / (std::string(figure) + ".png")), 1000U) << figure;
        EXPECT_THAT(test::read_text(request_.destination / (std::string(figure) + ".svg")), HasSubstr("<svg"));
    }
    EXPECT_THAT(html, Not(HasSubstr("What was restored")));
}

TEST_F(ReportTest, TellsWhatWasRestored) {
    RestoreRequest restore_request;
    restore_request.destination = folder_ / "rescue";
    Selection calls;
    calls.names = {"*.wav"};
    ASSERT_TRUE(restore({{&*catalog_, calls}}, restore_request, listener_));
    request_.restored = folder_ / "rescue";
    const std::string html = page();
    EXPECT_THAT(html, AllOf(HasSubstr("What was restored"), HasSubstr("storm petrel burrow 7.wav")));
    auto rows = parse_csv(test::read_text(folder_ / "rescue/manifest.csv"));
    ASSERT_TRUE(rows);
    EXPECT_THAT(html, HasSubstr(rows->front()["sha256"]));
    request_.restored = folder_ / "nowhere";
    EXPECT_FALSE(write_report(*catalog_, request_, listener_));
}

TEST_F(ReportTest, TheXmlHasEveryFindWithItsRuns) {
    page();
    const std::string xml = test::read_text(request_.destination / "finds.dfxml");
    EXPECT_EQ(count(xml, "<fileobject>"), 65U);
    EXPECT_EQ(count(xml, "<name_type>d</name_type>"), 12U);
    EXPECT_EQ(count(xml, "<fileobject>"), count(xml, "</fileobject>"));
    EXPECT_EQ(count(xml, "<volume "), 3U);
    const auto find = [&](const std::string& name) {
        Candidate found;
        EXPECT_TRUE(catalog_->each({}, {}, true, [&](const Candidate& c) {
            if (c.record.name == name) found = c;
            return true;
        }));
        return found;
    };
    const Candidate wav = find("storm petrel burrow 7.wav");
    ASSERT_FALSE(wav.layout.extents.empty());
    EXPECT_THAT(xml, HasSubstr(fmt::format("img_offset=\"{}\"", wav.layout.extents.front().offset)));
    EXPECT_THAT(xml, HasSubstr(fmt::format("<filesize>{}</filesize>", wav.record.size)));
    request_.selection.kinds = {Kind::audio};
    page();
    const std::string audio = test::read_text(request_.destination / "finds.dfxml");
    EXPECT_LT(count(audio, "<fileobject>"), 5U) << "only what is selected";
}

TEST_F(ReportTest, ADestinationThatIsNoneIsSaid) {
    test::write_text(folder_ / "file", "in the way");
    request_.destination = folder_ / "file" / "below";
    const auto refused = write_report(*catalog_, request_, listener_);
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::output);
}

TEST(Markup, EscapesWhatMarkUpIsMadeOf) {
    EXPECT_EQ(escaped("<b>\"a\" & b</b>"), "&lt;b&gt;&quot;a&quot; &amp; b&lt;/b&gt;");
    EXPECT_EQ(escaped(std::string_view("a\0b\x1F", 4)),
              "a\xEF\xBF\xBD"
              "b\xEF\xBF\xBD");
}

}  // namespace
}  // namespace dredger
