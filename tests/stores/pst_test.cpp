// Real personal and offline stores, whole and damaged, against what another reader lists of them.
#include <gmock/gmock.h>
#include <nlohmann/json.hpp>

#include "base/digest.h"
#include "formats/format.h"
#include "stores/opened_store.h"
#include "stores/pst/encoding.h"
#include "stores/pst/pages.h"

namespace dredger {
namespace {

using nlohmann::json;
using stores::pst::Form;
using stores::pst::geometry_of;
using test::OpenedStore;
using testing::HasSubstr;
using testing::IsEmpty;

constexpr std::uint64_t kHeader = 1024;  // bytes

std::string sum_of(const std::string& bytes) {
    Sha256 sum;
    sum.add(std::as_bytes(std::span(bytes)));
    return sum.finish();
}

std::vector<std::byte> wiped(std::vector<std::byte> image, std::uint64_t from, std::uint64_t length) {
    std::fill_n(image.begin() + static_cast<std::ptrdiff_t>(from), length, std::byte{0});
    return image;
}

std::uint64_t u64_at(const std::vector<std::byte>& image, std::size_t at) { return ByteView(image).u64le(at).value(); }

// The pages of both trees, wherever they stand.
std::vector<std::uint64_t> tree_pages(const std::vector<std::byte>& image, Form form) {
    const auto& geometry = geometry_of(form);
    std::vector<std::uint64_t> places;
    for (std::size_t at = 0; at + geometry.page <= image.size(); at += 512)
        if (stores::pst::tree_page(geometry, ByteView(std::span(image).subspan(at, geometry.page)), at))
            places.push_back(at);
    return places;
}

std::size_t messages_in(const OpenedStore& store, State state) {
    return static_cast<std::size_t>(std::count_if(
        store.found.records.begin(), store.found.records.end(),
        [&](const Record& record) { return record.state == state && !test::fact_of(record, "header").empty(); }));
}

class PstStore : public testing::Test {
  protected:
    const std::vector<std::byte> image_ = test::unpacked("mail-pst");
    const json truth_ = test::truth_of("mail-pst");
};

TEST_F(PstStore, HasAllThatAnotherReaderLists) {
    const OpenedStore store(image_, "pst");
    ASSERT_TRUE(store.is_store());
    EXPECT_EQ(store.store->facts().label, "Personal folders");
    EXPECT_TRUE(store.store->facts().is_mountable);
    EXPECT_THAT(store.warnings, IsEmpty());
    EXPECT_EQ(messages_in(store, State::live), truth_["messages"].size());
    std::multiset<std::string> subjects, sums;
    for (const Record& record : store.found.records) {
        if (record.is_folder) continue;
        subjects.insert(test::fact_of(record, "subject"));
        std::vector<Extent> bad;
        const std::string content = store.content(record, &bad);
        if (bad.empty()) sums.insert(sum_of(content));
        EXPECT_EQ(bad.empty(), record.trust == LayoutTrust::exact) << record.path();
    }
    for (const json& message : truth_["messages"]) {
        EXPECT_TRUE(subjects.contains(message["subject"])) << message["subject"];
        for (const json& attachment : message["attachments"])
            EXPECT_EQ(sums.contains(attachment["sha256"]), !attachment["wiped"]) << attachment["name"];
    }
}

TEST_F(PstStore, WritesMessagesAsInternetMail) {
    const OpenedStore store(image_, "pst");
    const Record* mail = store.find(
        "store/lokay-m/MLOKAY (Non-Privileged)/2001-08-23 Power Mart '01 - Register online for your FREE exhibition "
        "pass!.eml");
    ASSERT_NE(mail, nullptr);
    EXPECT_EQ(test::fact_of(*mail, "from"), "Mailbox - Ftenergy1 <ftenergy1@FTENERGY.COM>");
    EXPECT_EQ(test::fact_of(*mail, "header"), "as it was received");
    EXPECT_EQ(iso8601(*mail->modified), "2001-08-23T22:49:51Z");
    const std::string text = store.content(*mail);
    EXPECT_EQ(text.size(), mail->size);
    EXPECT_THAT(text, HasSubstr("\r\nSubject: Power Mart '01"));
    EXPECT_THAT(text, HasSubstr("Content-Type: image/gif; name=image001.gif\r\n"));
    EXPECT_THAT(text, HasSubstr("\r\n\r\nQXR0YWNobWVudCBDOl"));  // the attachment, in Base64
}

TEST_F(PstStore, ComesBackWithoutItsHeaderAndRoots) {
    const OpenedStore whole(image_, "pst");
    auto image = wiped(image_, u64_at(image_, 224), 512);
    image = wiped(std::move(image), u64_at(image_, 240), 512);
    const OpenedStore store(wiped(std::move(image), 0, kHeader), "pst");
    ASSERT_TRUE(store.is_store());
    EXPECT_FALSE(store.store->facts().is_mountable);
    EXPECT_EQ(store.contents(), whole.contents());
    // What does not look like a store at all is searched only where something tells of one.
    EXPECT_FALSE(OpenedStore(wiped(image_, 0, kHeader), "").is_store());
}

TEST_F(PstStore, ComesBackFromItsBlocksAlone) {
    const OpenedStore whole(image_, "pst");
    auto image = image_;
    for (const std::uint64_t page : tree_pages(image_, Form::unicode)) image = wiped(std::move(image), page, 512);
    const OpenedStore store(std::move(image), "pst");
    ASSERT_TRUE(store.is_store());
    const auto before = whole.contents();
    std::size_t same = 0;
    for (const std::string& content : store.contents(State::lost)) same += before.count(content) > 0 ? 1 : 0;
    EXPECT_EQ(messages_in(store, State::lost), truth_["messages"].size());
    EXPECT_GE(same, before.size() - 8) << "but for attachments of which nothing is left";
}

TEST_F(PstStore, EveryTenthPageCostsNothing) {
    const OpenedStore whole(image_, "pst");
    auto image = image_;
    const auto pages = tree_pages(image_, Form::unicode);
    for (std::size_t n = 0; n < pages.size(); n += 10) image = wiped(std::move(image), pages[n], 512);
    EXPECT_EQ(OpenedStore(std::move(image), "pst").contents(), whole.contents());
}

// What has lost a block of its own is never called whole.
TEST_F(PstStore, WhatLacksABlockSaysSo) {
    const OpenedStore whole(image_, "pst");
    const auto before = whole.contents();
    auto image = image_;
    for (std::size_t at = 0x4400; at + 512 <= image.size(); at += 5120) image = wiped(std::move(image), at, 512);
    const OpenedStore store(std::move(image), "pst");
    std::size_t damaged = 0;
    for (const Record& record : store.found.records) {
        if (record.is_folder) continue;
        damaged += record.trust == LayoutTrust::damaged ? 1 : 0;
        EXPECT_TRUE(record.trust == LayoutTrust::damaged || before.contains(store.content(record))) << record.path();
    }
    EXPECT_GT(damaged, 20U);
}

// Blocks that stand nowhere leave holes of their own length: what follows them is where it was.
TEST_F(PstStore, WhatFollowsALostBlockKeepsItsPlace) {
    const OpenedStore whole(image_, "pst");
    auto image = wiped(image_, 0, kHeader);
    for (std::size_t at = 0x4400; at + 512 <= image.size(); at += 25'600) image = wiped(std::move(image), at, 512);
    const OpenedStore store(std::move(image), "pst");
    std::size_t torn = 0;
    for (const Record& record : store.found.records) {
        if (record.is_folder || record.identity.generation == 0) continue;
        const auto same = std::find_if(whole.found.records.begin(), whole.found.records.end(), [&](const Record& one) {
            return one.identity == record.identity && one.name == record.name;
        });
        if (same == whole.found.records.end() || same->trust != LayoutTrust::exact) continue;
        std::vector<Extent> bad;
        std::string left = store.content(record, &bad);
        std::string before = whole.content(*same).substr(0, left.size());
        torn += bad.empty() ? 0 : 1;
        left.resize(before.size());
        for (const Extent& hole : bad)
            for (std::string* text : {&left, &before})
                std::fill_n(text->begin() + static_cast<std::ptrdiff_t>(hole.offset), hole.length, '\0');
        EXPECT_TRUE(left == before) << record.path();
    }
    EXPECT_GT(torn, 2U);
}

TEST_F(PstStore, EachHalfHasItsMessagesAndNoneIsInvented) {
    const OpenedStore whole(image_, "pst");
    const auto all = whole.contents();
    const auto half = static_cast<std::ptrdiff_t>(image_.size() / 2);
    std::set<std::string> subjects;
    for (const json& message : truth_["messages"]) subjects.insert(message["subject"]);
    for (const auto& part : {std::vector<std::byte>(image_.begin(), image_.begin() + half),
                             std::vector<std::byte>(image_.begin() + half, image_.end())}) {
        const OpenedStore store(part, "pst");
        ASSERT_TRUE(store.is_store());
        std::size_t whole_ones = 0;
        for (const Record& record : store.found.records) {
            if (record.is_folder) continue;
            std::vector<Extent> bad;
            const std::string content = store.content(record, &bad);
            if (record.trust == LayoutTrust::exact) {
                EXPECT_TRUE(all.contains(content)) << record.path();
                EXPECT_THAT(bad, IsEmpty());
                ++whole_ones;
            }
            const std::string subject = test::fact_of(record, "subject");
            EXPECT_TRUE(subject.empty() || subjects.contains(subject)) << subject;
        }
        EXPECT_GT(whole_ones, 20U);
    }
}

// A node that the table of its folder does not list, and one that only a page out of use tells of.
TEST_F(PstStore, DeletedMessagesAreTold) {
    const auto& geometry = geometry_of(Form::unicode);
    auto image = image_;
    // The newest leaf that has messages loses its place in the tree: its parent tells of one entry less.
    for (const std::uint64_t at : tree_pages(image_, Form::unicode)) {
        const auto page = stores::pst::tree_page(geometry, *ByteView(image).slice(at, geometry.page), at);
        const bool is_parent = page->ptype == stores::pst::ptypeNBT && page->level == 1 && page->children.size() > 2 &&
                               at == u64_at(image_, 224);
        if (!is_parent) continue;
        image[at + 488] = static_cast<std::byte>(page->children.size() - 1);
        const std::uint32_t crc = stores::pst::compute_crc(std::span(image).subspan(at, 496));
        for (std::size_t i = 0; i < 4; ++i) image[at + 500 + i] = static_cast<std::byte>(crc >> (8 * i));
    }
    const OpenedStore whole(image_, "pst"), store(std::move(image), "pst");
    const std::size_t deleted = messages_in(store, State::deleted);
    EXPECT_GT(deleted, 0U);
    EXPECT_EQ(deleted + messages_in(store, State::live), messages_in(whole, State::live));
    const auto before = whole.contents();
    for (const std::string& content : store.contents(State::deleted)) EXPECT_TRUE(before.contains(content));
}

TEST(OfflineStore, HasAllThatAnotherReaderLists) {
    const OpenedStore store(test::unpacked("mail-ost"), "pst");
    ASSERT_TRUE(store.is_store());
    std::multiset<std::string> sums, subjects;
    for (const Record& record : store.found.records) {
        if (record.is_folder) continue;
        EXPECT_EQ(record.trust, LayoutTrust::exact) << record.path();
        sums.insert(sum_of(store.content(record)));
        subjects.insert(test::fact_of(record, "subject"));
    }
    for (const json& message : test::truth_of("mail-ost")["messages"]) {
        EXPECT_TRUE(message["class"] != "IPM.Note" || subjects.contains(message["subject"])) << message["subject"];
        for (const json& attachment : message["attachments"])
            EXPECT_TRUE(sums.contains(attachment["sha256"])) << attachment["name"];
    }
}

TEST(OfflineStore, AppointmentsBecomeCalendars) {
    const OpenedStore store(test::unpacked("mail-ost"), "pst");
    const Record* holiday = store.find("store/Calendar/United States holidays/2023-05-29 Memorial Day.ics");
    ASSERT_NE(holiday, nullptr);
    const std::string text = store.content(*holiday);
    EXPECT_THAT(text, HasSubstr("BEGIN:VEVENT\r\n"));
    EXPECT_THAT(text, HasSubstr("DTSTART;VALUE=DATE:20230529\r\n"));
    EXPECT_THAT(text, HasSubstr("SUMMARY:Memorial Day\r\n"));
}

TEST(OfflineStore, WhatIsInTheTrashIsTrashed) {
    const OpenedStore store(test::unpacked("mail-ost"), "pst");
    EXPECT_EQ(messages_in(store, State::trashed), 1U);
}

TEST(StoreFormat, TellsWhereAStoreEnds) {
    for (const char* name : {"mail-pst", "mail-ost"}) {
        auto image = test::unpacked(name);
        const std::size_t size = image.size();
        image.resize(size + 100'000, std::byte{7});
        const test::MemoryMedium medium(std::move(image));
        Budget budget;
        Reader reader(medium, budget);
        EXPECT_EQ(format_named("pst")->measure(reader).length, size) << name;
    }
}

// Blocks whose bytes were changed and summed anew: what their sums don't keep out must come to an end, too.
TEST(PstDamage, BlocksThatLieComeToAnEnd) {
    const auto image = test::unpacked("mail-ost");
    const auto& geometry = geometry_of(Form::unicode_4k);
    std::vector<std::pair<std::size_t, stores::pst::BlockTrailer>> blocks;  // and where they begin
    for (std::size_t end = geometry.block_align; end <= image.size(); end += geometry.block_align) {
        const auto bytes = ByteView(image).slice(end - geometry.block_trailer, geometry.block_trailer).value();
        const auto trailer = stores::pst::block_trailer(geometry, bytes);
        const std::uint64_t space = stores::pst::space_of(geometry, trailer.cb);
        if (trailer.cb == 0 || space > end || trailer.wSig != stores::pst::compute_sig(end - space, trailer.bid))
            continue;
        blocks.emplace_back(end - space, trailer);
    }
    ASSERT_GT(blocks.size(), 500U);
    std::uint64_t state = test::seed_of(20261130);
    const auto next = [&](std::uint64_t below) {
        state = state * 6364136223846793005U + 1442695040888963407U;
        return static_cast<std::size_t>((state >> 33) % below);
    };
    for (unsigned copy = 0; copy < test::affordable(60); ++copy) {
        auto damaged = image;
        for (unsigned n = 0; n < 40; ++n) {
            const auto& [begin, trailer] = blocks[next(blocks.size())];
            // Headers and tables do most harm.
            for (unsigned bytes = 0; bytes < 4; ++bytes)
                damaged[begin + next(std::min<std::uint64_t>(trailer.cb, 64))] = static_cast<std::byte>(next(256));
            const std::uint32_t crc = stores::pst::compute_crc(std::span(damaged).subspan(begin, trailer.cb));
            const std::size_t at = begin + stores::pst::space_of(geometry, trailer.cb) - geometry.block_trailer + 4;
            for (std::size_t i = 0; i < 4; ++i) damaged[at + i] = static_cast<std::byte>(crc >> (8 * i));
        }
        const OpenedStore store(std::move(damaged), "pst");
        if (!store.is_store()) continue;
        for (const Record& record : store.found.records) {
            EXPECT_LE(record.size, std::uint64_t{1} << 30);
            EXPECT_FALSE(record.name.empty());
        }
    }
}

}  // namespace
}  // namespace dredger
