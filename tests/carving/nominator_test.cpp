#include "carving/nominator.h"

#include <gmock/gmock.h>

#include "support/support.h"

namespace dredger {
namespace {

std::vector<std::string> nominated(const Nominator& nominator, std::string head, std::string_view before = {}) {
    head.resize(std::max<std::size_t>(head.size(), 4096));
    const auto bytes = test::bytes_of(head);
    const auto earlier = test::bytes_of(before);
    std::vector<Bid> bids;
    nominator.nominate(ByteView(bytes), ByteView(earlier), bids);
    std::vector<std::string> names;
    for (const Bid& bid : bids)
        if (!bid.goes_on) names.emplace_back(bid.format->name);
    return names;
}

using testing::Contains;
using testing::ElementsAre;
using testing::IsEmpty;
using testing::Not;

TEST(Nominator, ASignatureNominates) {
    const Nominator all({});
    EXPECT_THAT(nominated(all, "GIF89a"), ElementsAre("gif"));
    EXPECT_THAT(nominated(all, "%PDF-1.7\n"), Contains("pdf"));
    EXPECT_THAT(nominated(all, std::string("RIFF\0\0\0\0WAVE", 12)), ElementsAre("wav"));
    std::string tar(257, 'a');
    tar.append("ustar");
    EXPECT_THAT(nominated(all, tar), Contains("tar"));
    EXPECT_THAT(nominated(all, std::string(4096, '\0')), IsEmpty());
    EXPECT_THAT(nominated(all, std::string(4096, '\x05')), IsEmpty());
}

TEST(Nominator, TheMostEvidenceComesFirst) {
    const Nominator all({});
    const auto names = nominated(all, "<?xml version=\"1.0\"?><rings/>");
    ASSERT_FALSE(names.empty());
    EXPECT_EQ(names.front(), "xml");
    EXPECT_EQ(nominated(all, "From warden@skerrow.example Sun May  3 09:12:44 2026\nFrom: a\n").front(), "mbox");
}

TEST(Nominator, TextThatGoesOnBeginsNowhere) {
    const Nominator all({});
    EXPECT_THAT(nominated(all, "Two chicks in burrow 14, both ringed. One chick on ledge 3, too young.\n"),
                Contains("txt"));
    EXPECT_THAT(
        nominated(all, "Two chicks in burrow 14, both ringed. One chick on ledge 3, too young.\n", "and on the ledge."),
        Not(Contains("txt")));
    EXPECT_THAT(nominated(all, "<!DOCTYPE html><html>", "and on the ledge."), Contains("html"));
    EXPECT_THAT(nominated(all, "# Rings of the north plot, by burrow and by year, as the warden read them\n",
                          "it was on the led"),
                Contains("txt"))
        << "no line goes on so";
    EXPECT_THAT(nominated(all, "Count them again at dusk, all of them, and write down the wind and swell.\n",
                          "it was on the led"),
                Contains("txt"));
    EXPECT_THAT(nominated(all, "Count them again at dusk, all of them, and write down the wind and swell.\n",
                          "it was on the ledge.\n"),
                Not(Contains("txt")));
}

TEST(Nominator, NarrowedItNominatesWhatTellsTheWanted) {
    const Nominator documents({{}, {"docx"}});
    EXPECT_THAT(nominated(documents, "PK\3\4"), ElementsAre("zip"));
    EXPECT_THAT(nominated(documents, "GIF89a"), IsEmpty());
    const Nominator pictures({{Kind::picture}, {}});
    EXPECT_THAT(nominated(pictures, "GIF89a"), ElementsAre("gif"));
    EXPECT_THAT(nominated(pictures, "%PDF-1.7\n"), IsEmpty());
}

TEST(Nominator, TakesFurtherFormats) {
    Format own;
    own.name = "nestlog";
    own.signatures = {{{8, "NEST"}}};
    own.measure = [](Reader&) { return nonsense(); };
    const Nominator nominator({{}, {"gif"}}, {&own});
    EXPECT_THAT(nominated(nominator, "........NEST"), ElementsAre("nestlog"));
}

}  // namespace
}  // namespace dredger
