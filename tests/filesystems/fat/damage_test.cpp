// Ten thousand damaged copies of real media: whatever stands on them, a scan ends, in little memory.
#include <gtest/gtest.h>
#include <random>
#include <sys/resource.h>

#include "filesystems/filesystem.h"
#include "media/window.h"
#include "ranking/prospect.h"
#include "scanning/volume_scan.h"
#include "support/support.h"
#include "volumes/volume.h"

namespace dredger {
namespace {

using test::MemoryMedium;

class Judging final : public RecordSink {
  public:
    Judging(const Medium& volume, const SpaceMap& space) : volume_(volume), space_(space) { claims_.seal(); }
    bool take(Record&& record) override {
        EXPECT_FALSE(record.name.empty());
        EXPECT_LE(record.layout.extents.size(), std::size_t{1} << 20);
        std::uint64_t laid = 0;
        for (const Extent& extent : record.layout.extents) {
            EXPECT_TRUE(lies_within(extent.offset, extent.length, volume_.size()));
            laid += extent.length;
        }
        EXPECT_LE(laid, record.size);
        const Prospect prospect = judge(gather(record, 0, claims_, space_, volume_, habit_), {});
        EXPECT_GE(prospect.value, 0);
        EXPECT_LE(prospect.value, 100);
        return ++count_ < 200'000;
    }

  private:
    const Medium& volume_;
    const SpaceMap& space_;
    Claims claims_;
    PaddingHabit habit_;
    std::size_t count_ = 0;
};

void scan_all(const std::shared_ptr<MemoryMedium>& medium) {
    const auto map = read_partition_map(*medium);
    ASSERT_TRUE(map);
    for (const Volume& place : map->volumes) {
        const auto volume = std::make_shared<Window>(medium, place.offset, place.length);
        const auto filesystem = open_filesystem(volume);
        if (!filesystem || !*filesystem) continue;
        Judging sink(*volume, (*filesystem)->space());
        std::vector<std::string> warnings;
        (void)(*filesystem)->walk({CodePage::cp850, false, content_fits_name, {}}, sink, warnings);
    }
}

// Where a few changed bytes do most harm: tables, boot sectors, FATs, and everything that is a folder.
std::vector<std::uint64_t> tender_places(const std::vector<std::byte>& image, std::uint64_t volume) {
    std::vector<std::uint64_t> places;
    const auto add = [&](std::uint64_t from, std::uint64_t length) {
        for (std::uint64_t at = from; at < std::min<std::uint64_t>(from + length, image.size()); ++at)
            places.push_back(at);
    };
    add(446, 66);
    for (int weight = 0; weight < 3; ++weight) add(volume + 11, 40);
    add(volume + 512, 4096);
    const ByteView view(image);
    for (std::uint64_t at = volume; at + 64 <= image.size(); at += 512)
        if (view.has(at, ".          \x10") || view.has(at + 11, "\x08") || view.has(at + 11, "\x0F")) add(at, 512);
    return places;
}

void damage(const std::string& fixture, unsigned copies) {
    const auto image = std::make_shared<const std::vector<std::byte>>(test::unpacked(fixture));
    const auto truth = test::truth_of(fixture);
    const auto places = tender_places(*image, truth["volumes"][0]["offset"]);
    std::mt19937 chance(20260503);
    const auto any = [&](std::size_t below) { return static_cast<std::size_t>(chance()) % below; };
    for (unsigned copy = 0; copy < copies; ++copy) {
        const auto medium = std::make_shared<MemoryMedium>(image);
        for (std::size_t n = 1 + any(24); n > 0; --n) {
            const std::uint64_t at = places[any(places.size())];
            switch (any(5)) {
                case 0: medium->patch(at, 0); break;
                case 1: medium->patch(at, 0xFF); break;
                case 2: medium->patch(at, 0xE5); break;
                case 3:
                    medium->patch32(std::min<std::uint64_t>(at, image->size() - 4),
                                    static_cast<std::uint32_t>(chance()));
                    break;
                default: medium->patch(at, static_cast<std::uint8_t>(chance())); break;
            }
        }
        if (any(20) == 0) medium->cut_at(any(image->size()) + 1);
        if (any(20) == 0) medium->make_unreadable({any(image->size()), 4096});
        scan_all(medium);
        if (testing::Test::HasFailure()) FAIL() << fixture << " copy " << copy;
    }
}

TEST(FatDamage, SixThousandFloppies) { damage("fat12-floppy", 6000); }
TEST(FatDamage, ThreeThousandCards) { damage("fat16-card", 3000); }
TEST(FatDamage, AThousandSticks) { damage("fat32-stick", 1000); }

#if !defined(__SANITIZE_ADDRESS__)
std::uint64_t most_memory() {
    rusage usage{};
    ::getrusage(RUSAGE_SELF, &usage);
    return static_cast<std::uint64_t>(usage.ru_maxrss) * 1024;
}

TEST(FatDamage, TakesLittleMemory) {
    damage("fat12-floppy", 300);
    damage("fat32-stick", 50);
    EXPECT_LT(most_memory(), 256U << 20);
}
#endif

}  // namespace
}  // namespace dredger
