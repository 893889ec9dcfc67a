// Layouts that records lost, on records that a real driver wrote.
#include "filesystems/ntfs/former_data.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "filesystems/ntfs/attributes.h"
#include "filesystems/ntfs/fixups.h"
#include "support/walked.h"

namespace dredger::ntfs {
namespace {

using test::Walked;
using testing::Contains;
using testing::HasSubstr;

constexpr std::size_t kRecord = 1024;

// A deleted photo with clusters of its own, and its record with the fix-ups undone.
class FormerDataTest : public testing::Test {
  protected:
    FormerDataTest() : walked_("ntfs-office") {
        const auto boot = walked_.volume->bytes(0, 512).value();
        geometry_ = parse_boot_sector(ByteView(boot)).value();
        photo_ = walked_.found.find("Nest photos/Nest 03.jpg");
        bytes_ =
            walked_.volume
                ->bytes(geometry_.mft_cluster * geometry_.cluster_size + photo_->identity.number * kRecord, kRecord)
                .value();
        EXPECT_EQ(apply_fixups(bytes_), kRecord);
    }
    RawRecord record() const {
        RawRecord record;
        record.number = photo_->identity.number;
        record.bytes = ByteView(bytes_);
        record.header = record.bytes.as<FileRecordSegmentHeader>(0).value();
        return record;
    }
    std::size_t offset_of_data() const {
        std::size_t at = record().header.FirstAttributeOffset;
        while (record().bytes.u32le(at).value() != DATA) at += record().bytes.u32le(at + 4).value();
        return at;
    }
    // Pages of a log that hold `content` one behind the other.
    static std::vector<std::byte> log_of(const std::vector<std::byte>& content) {
        std::vector<std::byte> log(2 * 4096, std::byte{0xFF});
        for (std::size_t done = 0; done < content.size();) {
            std::vector<std::byte> page(4096);
            std::memcpy(page.data(), "RCRD\x28\0\x09\0", 8);
            const std::size_t part = std::min<std::size_t>(4096 - 64, content.size() - done);
            std::copy_n(content.begin() + static_cast<std::ptrdiff_t>(done), part, page.begin() + 64);
            // The update sequence: what stands at the ends of the strides goes into the array.
            page[40] = std::byte{5};
            for (std::size_t i = 0; i < 8; ++i) {
                const std::size_t end = (i + 1) * 512 - 2;
                page[42 + 2 * i] = page[end];
                page[43 + 2 * i] = page[end + 1];
                page[end] = std::byte{5};
                page[end + 1] = std::byte{0};
            }
            log.insert(log.end(), page.begin(), page.end());
            done += part;
        }
        return log;
    }

    Walked walked_;
    Geometry geometry_;
    const Record* photo_ = nullptr;
    std::vector<std::byte> bytes_;
};

TEST_F(FormerDataTest, AttributesBehindTheEndOfARecordStillTell) {
    RawRecord shorter = record();
    EXPECT_TRUE(find_data_in_slack(shorter, geometry_).empty()) << "it is in use";
    shorter.header.FirstFreeByte = static_cast<std::uint32_t>(offset_of_data() - 8);
    const auto found = find_data_in_slack(shorter, geometry_);
    ASSERT_EQ(found.size(), 1U);
    EXPECT_EQ(found[0].size, photo_->size);
    EXPECT_EQ(found[0].layout, photo_->layout);
}

TEST_F(FormerDataTest, ADamagedAttributeTellsNothing) {
    RawRecord shorter = record();
    shorter.header.FirstFreeByte = static_cast<std::uint32_t>(offset_of_data() - 8);
    for (const std::size_t at : {24U, 47U, 55U, 64U}) {
        const std::byte before = bytes_[offset_of_data() + at];
        bytes_[offset_of_data() + at] = std::byte{0x7E};
        EXPECT_TRUE(find_data_in_slack(shorter, geometry_).empty()) << at;
        bytes_[offset_of_data() + at] = before;
    }
}

TEST_F(FormerDataTest, TheLogKeepsCopiesOfRecords) {
    // The second copy crosses the end of a page.
    std::vector<std::byte> content(48);
    content.insert(content.end(), bytes_.begin(), bytes_.end());
    content.resize(3600);
    std::vector<std::byte> later = bytes_;
    later[16] = std::byte{0x55};
    content.insert(content.end(), later.begin(), later.end());
    content.resize(9000);
    LogCopies copies;
    copies.read(test::MemoryMedium(log_of(content)), geometry_);
    const std::uint16_t sequence = record().header.SequenceNumber;
    const Stream* stream = copies.find({photo_->identity.number, sequence});
    ASSERT_NE(stream, nullptr);
    EXPECT_EQ(stream->layout, photo_->layout);
    EXPECT_NE(copies.find({photo_->identity.number, 0x55}), nullptr);
    EXPECT_EQ(copies.find({photo_->identity.number, static_cast<std::uint16_t>(sequence + 1)}), nullptr);
}

TEST_F(FormerDataTest, ALogThatWasNeverWrittenTellsNothing) {
    LogCopies copies;
    copies.read(test::MemoryMedium(std::vector<std::byte>(64 * 4096, std::byte{0xFF})), geometry_);
    EXPECT_EQ(copies.find({photo_->identity.number, record().header.SequenceNumber}), nullptr);
}

TEST(FormerData, ANameFindsItsContentAgain) {
    const Walked worn("ntfs-worn");
    const Record* lost = nullptr;
    for (const Record& record : worn.found.records)
        if (record.origin == Origin::remnant && record.size > 4096 && record.identity.number < 1000) lost = &record;
    ASSERT_NE(lost, nullptr);
    const auto boot = worn.volume->bytes(0, 512).value();
    const Geometry geometry = parse_boot_sector(ByteView(boot)).value();
    const std::uint64_t place = geometry.mft_cluster * geometry.cluster_size + lost->identity.number * kRecord;
    const std::uint64_t clusters = divide_up(lost->size, geometry.cluster_size);
    // The attribute that the file had, left standing behind the end of the record: clusters from 700 on.
    constexpr std::size_t kAt = 640;
    std::vector<std::byte> attribute(72);
    const auto put = [&](std::size_t at, std::uint64_t value, std::size_t length) {
        std::memcpy(attribute.data() + at, &value, length);
    };
    put(0, DATA, 4);
    put(4, attribute.size(), 4);
    put(8, 1, 1);
    put(24, clusters - 1, 8);
    put(32, 64, 2);
    put(40, clusters * geometry.cluster_size, 8);
    put(48, lost->size, 8);
    put(56, lost->size, 8);
    put(64, 0x21 | clusters << 8U | 700ULL << 16U, 4);
    const Walked walked("ntfs-worn", [&](test::MemoryMedium& medium, std::uint64_t) {
        for (std::size_t i = 0; i < attribute.size(); ++i)
            medium.patch(place + kAt + i, std::to_integer<std::uint8_t>(attribute[i]));
    });
    const Record* found = nullptr;
    for (const Record& record : walked.found.records)
        if (record.origin == Origin::remnant && record.path() == lost->path()) found = &record;
    ASSERT_NE(found, nullptr);
    EXPECT_THAT(found->layout.extents, testing::ElementsAre(Extent{700 * geometry.cluster_size, lost->size}));
    EXPECT_THAT(found->notes, Contains(HasSubstr("the end of the record still tells")));
}

}  // namespace
}  // namespace dredger::ntfs
