// The tree that is mounted: numbers that stay, names that are unique, finds that turn up later.
#include "mounting/finds_folder.h"

#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

class FindsFolderTest : public testing::Test {
  protected:
    void add(std::int64_t id, const std::string& folder, const std::string& name, bool is_folder = false,
             std::int64_t volume = 1) {
        Candidate c;
        c.id = id;
        c.volume = volume;
        c.kind = Kind::picture;
        c.format = "jpeg";
        c.record.folder = folder;
        c.record.name = name;
        c.record.is_folder = is_folder;
        c.record.state = State::deleted;
        c.record.size = 100;
        c.record.facts = {{"mode", "-rwsr-x---"}};
        c.prospect.band = id % 2 == 0 ? Band::sound : Band::faint;
        ASSERT_TRUE(catalog_.begin() && catalog_.add(c) && catalog_.commit());
    }
    std::vector<std::string> names(const FindsFolder& finds, FindsFolder::Number folder) const {
        std::vector<std::string> list;
        for (const auto child : finds.find(folder)->children) list.push_back(finds.find(child)->name);
        return list;
    }

    test::TempFolder folder_;
    Catalog catalog_ = *Catalog::open_for_scan(folder_ / "a.dredge");
};

TEST_F(FindsFolderTest, NamesAreUniqueAndSorted) {
    add(1, "DCIM", "nest.jpg");
    add(2, "DCIM", "nest.jpg");
    add(3, "DCIM", "ledge.jpg");
    add(4, "", "DCIM");  // a file of a folder's name
    FindsFolder finds(catalog_, usual_selection(), Arrangement::tree);
    ASSERT_TRUE(finds.load());
    EXPECT_EQ(finds.files(), 4U);
    const auto root = names(finds, FindsFolder::kRoot);
    ASSERT_EQ(root.size(), 2U);
    const auto dcim =
        finds.lookup(FindsFolder::kRoot, finds.lookup(FindsFolder::kRoot, "DCIM")->is_folder ? "DCIM" : "DCIM (2)");
    ASSERT_NE(dcim, nullptr);
    EXPECT_EQ(names(finds, dcim->number), (std::vector<std::string>{"ledge.jpg", "nest (2).jpg", "nest.jpg"}));
    EXPECT_EQ(finds.lookup(dcim->number, "no"), nullptr);
}

TEST_F(FindsFolderTest, NumbersStayWhenMoreIsFound) {
    add(1, "DCIM", "nest.jpg");
    FindsFolder finds(catalog_, usual_selection(), Arrangement::tree);
    ASSERT_TRUE(finds.load());
    const auto folder = finds.lookup(FindsFolder::kRoot, "DCIM")->number;
    const auto file = finds.lookup(folder, "nest.jpg")->number;
    add(2, "AAA", "other.jpg");
    add(3, "DCIM", "ledge.jpg");
    ASSERT_TRUE(finds.load());
    EXPECT_EQ(finds.lookup(FindsFolder::kRoot, "DCIM")->number, folder);
    EXPECT_EQ(finds.lookup(folder, "nest.jpg")->number, file);
    EXPECT_NE(finds.lookup(folder, "ledge.jpg"), nullptr);
}

TEST_F(FindsFolderTest, NoNameLeadsElsewhere) {
    add(1, "../..", "..");
    add(2, "/etc", "pass/wd");
    FindsFolder finds(catalog_, usual_selection(), Arrangement::tree);
    ASSERT_TRUE(finds.load());
    std::vector<FindsFolder::Number> left = {FindsFolder::kRoot};
    while (!left.empty()) {
        const auto item = finds.find(left.back());
        left.pop_back();
        EXPECT_EQ(item->name.find('/'), std::string::npos);
        EXPECT_NE(item->name, "..");
        left.insert(left.end(), item->children.begin(), item->children.end());
    }
}

TEST_F(FindsFolderTest, SeveralVolumesLieApart) {
    ASSERT_TRUE(catalog_.add_source({0, "card.img", {64 << 20, "RS-1", {}}}));
    for (const unsigned number : {1U, 2U}) {
        ScannedVolume volume;
        volume.source = 1;
        volume.place.number = number;
        volume.facts.label = number == 1 ? "RINGCARD" : "HUT";
        const auto id = catalog_.add_volume(volume);
        ASSERT_TRUE(id);
        add(number, "DCIM", "nest.jpg", false, *id);
    }
    FindsFolder finds(catalog_, usual_selection(), Arrangement::tree);
    ASSERT_TRUE(finds.load());
    EXPECT_EQ(names(finds, FindsFolder::kRoot), (std::vector<std::string>{"volume 1 RINGCARD", "volume 2 HUT"}));
    FindsFolder by_kind(catalog_, usual_selection(), Arrangement::kind);
    ASSERT_TRUE(by_kind.load());
    EXPECT_EQ(names(by_kind, FindsFolder::kRoot).size(), 1U) << "who asks for kinds asks for nothing else";
}

TEST_F(FindsFolderTest, LinksLeadFromBandsToFinds) {
    add(1, "DCIM/100NESTS", "nest.jpg");
    add(2, "DCIM", "nest.jpg");
    add(4, "", "nest.jpg");
    add(6, "", "By prospect", true);
    FindsFolder finds(catalog_, usual_selection(), Arrangement::tree, true);
    ASSERT_TRUE(finds.load());
    EXPECT_EQ(finds.files(), 3U);
    const auto bands = finds.lookup(FindsFolder::kRoot, "By prospect (2)");
    ASSERT_NE(bands, nullptr);
    EXPECT_EQ(names(finds, bands->number), (std::vector<std::string>{"faint", "sound"}));
    const auto sound = finds.lookup(bands->number, "sound")->number;
    EXPECT_EQ(names(finds, sound), (std::vector<std::string>{"nest (2).jpg", "nest.jpg"}));
    const auto link = finds.lookup(finds.lookup(bands->number, "faint")->number, "nest.jpg");
    ASSERT_NE(link->link_to, 0U);
    EXPECT_EQ(finds.target_of(*link), "../../DCIM/100NESTS/nest.jpg");
    EXPECT_EQ(link->size, finds.target_of(*link).size());
    EXPECT_EQ(finds.find(link->link_to)->permissions, 0750) << "as recorded, without another user's rights";
}

TEST_F(FindsFolderTest, OtherArrangementsHaveFoldersOfTheirOwn) {
    add(1, "DCIM", "nest.jpg");
    add(2, "DCIM", "nests", true);
    FindsFolder finds(catalog_, usual_selection(), Arrangement::kind);
    ASSERT_TRUE(finds.load());
    EXPECT_EQ(names(finds, FindsFolder::kRoot).size(), 1U);
    EXPECT_EQ(finds.files(), 1U);
}

}  // namespace
}  // namespace dredger
