#include "guiding/wanted.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "guiding/advice.h"

namespace dredger::guiding {
namespace {

using testing::Contains;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::Not;

TEST(Wanted, SaysTheSameInWordsAndAsSelection) {
    const Wanted wanted{{Kind::document, Kind::picture}, "permit", "2026-05"};
    EXPECT_THAT(wanted.words(), ElementsAre("--kind", "picture,document", "--name", "permit", "--modified", "2026-05"));
    const Selection selection = wanted.selection();
    EXPECT_EQ(selection.kinds, (std::set{Kind::document, Kind::picture}));
    EXPECT_THAT(selection.names, ElementsAre("*permit*"));
    EXPECT_TRUE(selection.modified.from && selection.modified.to);
    EXPECT_TRUE(selection.without_housekeeping);
    EXPECT_FALSE(selection.states.contains(State::live));
}

TEST(Wanted, EverythingAsksForNothing) {
    const Wanted all;
    EXPECT_TRUE(all.is_anything());
    EXPECT_TRUE(all.words().empty());
    EXPECT_EQ(all.told(), "files");
}

TEST(Wanted, IsToldAsASentence) {
    EXPECT_EQ((Wanted{{Kind::picture}, "", ""}.told()), "pictures");
    EXPECT_EQ((Wanted{{Kind::picture, Kind::video, Kind::mail}, "", ""}.told()), "pictures, films and mail");
    EXPECT_EQ((Wanted{{}, "gull", "yesterday"}.told()), "files with \"gull\" in their names, changed last yesterday");
}

TEST(Wanted, IsWidenedByWhatIsLeastCertain) {
    Wanted wanted{{Kind::mail}, "ledge", "2026"};
    wanted = wanted.wider();
    EXPECT_EQ(wanted, (Wanted{{Kind::mail}, "ledge", ""}));
    wanted = wanted.wider();
    EXPECT_EQ(wanted, (Wanted{{Kind::mail}, "", ""}));
    wanted = wanted.wider();
    EXPECT_TRUE(wanted.is_anything());
    EXPECT_TRUE(wanted.wider().is_anything());
}

TEST(Advice, NamesPlacesThatFitWhatIsMissed) {
    const auto phone = HasSubstr("phone");
    EXPECT_THAT(cheaper_ways({{Kind::picture}, "", ""}), Contains(phone));
    EXPECT_THAT(cheaper_ways({{Kind::mail}, "", ""}), Not(Contains(phone)));
    EXPECT_THAT(cheaper_ways({{Kind::mail}, "", ""}), Contains(HasSubstr("mail provider")));
    EXPECT_THAT(cheaper_ways({}), Contains(HasSubstr("backup")));
}

}  // namespace
}  // namespace dredger::guiding
