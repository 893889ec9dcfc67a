// Which files of a medium have the same content, whatever their layouts.
#include "scanning/comparing.h"

#include <gmock/gmock.h>

#include "support/support.h"

namespace dredger {
namespace {

using testing::ElementsAre;

class ComparingTest : public testing::Test {
  protected:
    static constexpr std::uint64_t kSize = 6000;  // bytes of each file

    void SetUp() override {
        catalog_.emplace(Catalog::open_for_scan(folder_ / "card.dredge").value());
        ASSERT_TRUE(catalog_->add_source({0, "card.img", {64 << 10, "", {}}}));
        ScannedVolume volume;
        volume.source = 1;
        ASSERT_TRUE(catalog_->add_volume(volume));
    }
    void add(std::vector<Extent> extents, State state = State::deleted, std::uint64_t size = kSize) {
        Candidate c;
        c.id = catalog_->next_id().value();
        c.volume = 1;
        c.record.name = std::to_string(c.id);
        c.record.state = state;
        c.record.size = size;
        c.layout.lay(extents);
        c.prospect.band = Band::sound;
        ASSERT_TRUE(catalog_->add(c));
    }
    // A medium with the same 6000 bytes at 0, at 20,000, and in two pieces at 40,000 and 50,000; other bytes at 30,000.
    static MediumPtr medium() {
        std::vector<std::byte> bytes(64 << 10);
        for (std::size_t i = 0; i < kSize; ++i) {
            const auto byte = static_cast<std::byte>((i * 2654435761U) >> 13);
            bytes[i] = bytes[20'000 + i] = bytes[(i < 4096 ? 40'000 : 50'000 - 4096) + i] = byte;
            bytes[30'000 + i] = i < 5999 ? byte : ~byte;
        }
        return std::make_shared<test::MemoryMedium>(bytes);
    }
    std::vector<std::int64_t> contents() const {
        std::vector<std::int64_t> list;
        for (std::int64_t id = 1; id < catalog_->next_id().value(); ++id)
            list.push_back(catalog_->find(id).value()->content);
        return list;
    }

    test::TempFolder folder_;
    std::optional<Catalog> catalog_;
    test::Listener listener_;
};

TEST_F(ComparingTest, ContentCountsNotPlace) {
    add({{0, kSize}});
    add({{20'000, kSize}});
    add({{30'000, kSize}});
    add({{40'000, 4096}, {50'000, kSize - 4096}});
    add({{0, kSize - 1}}, State::deleted, kSize - 1);
    ASSERT_TRUE(compare_contents(*catalog_, 1, medium(), {}, listener_).value());
    EXPECT_THAT(contents(), ElementsAre(1, 1, 0, 1, 0)) << "one byte less, or one other, is not the same";
}

TEST_F(ComparingTest, LiveFilesCountWhereADeletedOneIsLikeThem) {
    add({{0, kSize}}, State::live);
    add({{20'000, kSize}}, State::live);
    ASSERT_TRUE(compare_contents(*catalog_, 1, medium(), {}, listener_).value());
    EXPECT_THAT(contents(), ElementsAre(0, 0));
    add({{40'000, 4096}, {50'000, kSize - 4096}});
    ASSERT_TRUE(compare_contents(*catalog_, 1, medium(), {}, listener_).value());
    EXPECT_THAT(contents(), ElementsAre(1, 1, 1));
}

TEST_F(ComparingTest, WhatCanNotBeReadIsLikeNothing) {
    add({{0, kSize}});
    add({{63 << 10, kSize}});
    add({Extent::unknown(kSize)});
    ASSERT_TRUE(compare_contents(*catalog_, 1, medium(), {}, listener_).value());
    EXPECT_THAT(contents(), ElementsAre(0, 0, 0));
}

// What was seen on the way is not read again: here it says something else than the medium does.
TEST_F(ComparingTest, FingerprintsCountWhereAllHaveOne) {
    for (int n = 0; n < 3; ++n) add({{0, kSize}});
    const Fingerprints some = {{1, {7, 7}}, {2, {8, 8}}};
    ASSERT_TRUE(compare_contents(*catalog_, 1, medium(), some, listener_).value());
    EXPECT_THAT(contents(), ElementsAre(1, 1, 1)) << "one of them has none: all are read";
    add({{0, kSize}});
    const Fingerprints all = {{1, {7, 7}}, {2, {8, 8}}, {3, {9, 9}}, {4, {8, 8}}};
    ASSERT_TRUE(compare_contents(*catalog_, 1, medium(), all, listener_).value());
    EXPECT_EQ(contents()[3], 2);
}

TEST_F(ComparingTest, IsDoneOnceAndAnewWhereItWasStopped) {
    add({{0, kSize}});
    add({{20'000, kSize}});
    listener_.stop = true;
    EXPECT_FALSE(compare_contents(*catalog_, 1, medium(), {}, listener_).value());
    EXPECT_THAT(contents(), ElementsAre(0, 0));
    listener_.stop = false;
    EXPECT_TRUE(compare_contents(*catalog_, 1, medium(), {}, listener_).value());
    EXPECT_EQ(catalog_->compared_to(1).value(), 2);
    EXPECT_THAT(contents(), ElementsAre(1, 1));
}

}  // namespace
}  // namespace dredger
