#include "support/walked.h"

#include <cstdlib>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <random>
#include <sys/resource.h>

#include "base/checked.h"
#include "base/digest.h"
#include "bins/bins.h"
#include "checking/checking.h"
#include "media/content.h"
#include "media/window.h"
#include "ranking/prospect.h"
#include "scanning/volume_scan.h"
#include "volumes/volume.h"

namespace dredger::test {
namespace {

WalkOptions options_as_in_a_scan() {
    WalkOptions options;
    options.head_for_name = head_for_name;
    options.content_end = [](std::string_view name, const Medium& content) { return content_end(name, content); };
    options.content_length = [](std::string_view name, const Medium& content) { return content_length(name, content); };
    return options;
}

// The truth was noted in UTC, in which the fixtures' drivers kept even clocks of the wall.
std::string said_by_its_clock(const FileTime& time) {
    return iso8601({time.seconds, time.nanoseconds, FileTime::Clock::utc});
}

class Judging final : public RecordSink {
  public:
    Judging(MediumPtr volume, const SpaceMap& space) : volume_(std::move(volume)), space_(space) { claims_.seal(); }
    bool take(Record&& record) override {
        EXPECT_FALSE(record.name.empty());
        EXPECT_LE(record.layout.extents.size(), std::size_t{1} << 20);
        std::uint64_t laid = 0;
        for (const Extent& extent : record.layout.extents) {
            EXPECT_TRUE(!extent.is_stored() || checked_add(extent.offset, extent.length));
            laid += extent.length;
        }
        EXPECT_TRUE(laid <= record.size || record.layout.codec != Codec::none) << record.path();
        bins_.learn(record, volume_);
        const Prospect prospect = judge(gather(record, 0, claims_, space_, *volume_, habit_), {});
        EXPECT_GE(prospect.value, 0);
        EXPECT_LE(prospect.value, 100);
        if (bins_.settle(record)) bins_.note_move(record);
        return ++count_ < 200'000;
    }

  private:
    MediumPtr volume_;
    const SpaceMap& space_;
    Bins bins_;
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
        Judging sink(volume, (*filesystem)->space());
        std::vector<std::string> warnings;
        (void)(*filesystem)->walk(options_as_in_a_scan(), sink, warnings);
    }
}

}  // namespace

const Record* Collector::find(const std::string& path, State state) const {
    for (const Record& r : records)
        if (r.path() == path && r.state == state) return &r;
    return nullptr;
}

Walked::Walked(const std::string& fixture, const std::function<void(MemoryMedium&, std::uint64_t)>& damage) {
    medium = std::make_shared<MemoryMedium>(unpacked(fixture));
    const auto place = truth_of(fixture)["volumes"][0];
    if (damage) damage(*medium, place["offset"]);
    volume =
        std::make_shared<Window>(medium, place["offset"].get<std::uint64_t>(), place["length"].get<std::uint64_t>());
    auto opened = open_filesystem(volume);
    EXPECT_TRUE(opened && *opened) << fixture;
    if (!opened || !*opened) return;
    filesystem = std::move(*opened);
    EXPECT_TRUE(filesystem->walk(options_as_in_a_scan(), found, warnings));
}

std::string Walked::sum_of(const Record& record) const {
    const auto content = open_content(volume, record.layout, record.size);
    Sha256 digest;
    digest.add(content->bytes(0, static_cast<std::size_t>(content->size())).value());
    return digest.finish();
}

void expect_truth(const Walked& walked, const std::string& fixture, const std::vector<std::string>& missing) {
    std::size_t expected = 0;
    const auto truth = truth_of(fixture);
    for (const auto& file : truth["files"]) {
        std::string path = file["path"];
        std::replace(path.begin(), path.end(), ':', ';');
        // File systems know nothing of bins: what lies there is live for them.
        const bool live = file["state"] != "deleted";
        if (std::any_of(missing.begin(), missing.end(), [&](const std::string& m) { return path.starts_with(m); }))
            continue;
        ++expected;
        const Record* record = walked.found.find(path, live ? State::live : State::deleted);
        ASSERT_NE(record, nullptr) << path;
        EXPECT_EQ(record->is_folder, file["directory"].get<bool>()) << path;
        EXPECT_EQ(record->size, file["size"].get<std::uint64_t>()) << path;
        if (record->is_folder) continue;
        if (!file["modified"].is_null()) {
            EXPECT_EQ(said_by_its_clock(*record->modified), file["modified"]) << path;
        }
        if (file["intact_bytes"] == file["size"] || file.value("stored_intact", false)) {
            EXPECT_EQ(walked.sum_of(*record), file["sha256"]) << path;
        }
    }
    EXPECT_GT(expected, 5U);
}

void expect_whole_deleted(const Walked& walked, const std::string& fixture) {
    std::size_t whole = 0;
    const auto truth = truth_of(fixture);
    for (const auto& file : truth["files"]) {
        if (file["state"] != "deleted" || file["directory"] || file["size"] == 0 ||
            file["intact_bytes"] != file["size"])
            continue;
        ++whole;
        const Record* record = walked.found.find(file["path"]);
        ASSERT_NE(record, nullptr) << file["path"];
        EXPECT_EQ(record->size, file["size"].get<std::uint64_t>()) << file["path"];
        EXPECT_EQ(said_by_its_clock(*record->modified), file["modified"]) << file["path"];
        EXPECT_EQ(walked.sum_of(*record), file["sha256"]) << file["path"];
    }
    EXPECT_GT(whole, 10U);
}

unsigned affordable(unsigned copies) {
    return is_watched() && std::getenv("DREDGER_ALL_COPIES") == nullptr ? copies / 10 : copies;
}

void scan_damaged_copies(const std::string& fixture, unsigned copies, const std::vector<std::uint64_t>& tender,
                         unsigned seed) {
    const auto image = std::make_shared<const std::vector<std::byte>>(unpacked(fixture));
    std::mt19937 chance(seed);
    const auto any = [&](std::size_t below) { return static_cast<std::size_t>(chance()) % below; };
    for (unsigned copy = 0; copy < copies; ++copy) {
        const auto medium = std::make_shared<MemoryMedium>(image);
        for (std::size_t n = 1 + any(24); n > 0; --n) {
            const std::uint64_t at = tender[any(tender.size())];
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

std::string NameOfTest::word_of(std::string name) {
    std::replace(name.begin(), name.end(), '-', '_');
    return name;
}

void expect_live(const Walked& walked, const std::string& fixture) {
    const auto truth = truth_of(fixture);
    std::size_t count = 0;
    for (const auto& file : truth["files"]) {
        if (file["state"] == "deleted") continue;
        const std::string path = file["path"];
        const Record* record = walked.found.find(path, State::live);
        ASSERT_NE(record, nullptr) << path;
        ++count;
        if (file["directory"]) continue;
        EXPECT_EQ(record->size, file["size"].get<std::uint64_t>()) << path;
        EXPECT_EQ(walked.sum_of(*record), file["sha256"]) << path;
    }
    EXPECT_GT(count, 10U);
}

std::size_t deleted_that_come_back(const Walked& walked, const std::string& fixture) {
    const auto truth = truth_of(fixture);
    std::size_t count = 0;
    for (const auto& file : truth["files"]) {
        if (file["state"] != "deleted" || file["directory"] || file["intact_bytes"] != file["size"]) continue;
        const Record* record = walked.found.find(file["path"]);
        if (record == nullptr || record->layout.empty()) continue;
        const bool is_right = walked.sum_of(*record) == file["sha256"];
        EXPECT_TRUE(is_right || record->trust == LayoutTrust::damaged) << file["path"];
        count += is_right ? 1 : 0;
    }
    return count;
}

void scan_a_thousand(const Damage& damage,
                     const std::function<std::vector<std::uint64_t>(const std::vector<std::byte>&)>& tender_places) {
    const auto& [fixture, seed] = damage;
    scan_damaged_copies(fixture, affordable(1000), tender_places(unpacked(fixture)), seed);
}

std::uint64_t most_memory() {
    rusage usage{};
    ::getrusage(RUSAGE_SELF, &usage);
    return static_cast<std::uint64_t>(usage.ru_maxrss) * 1024;
}

}  // namespace dredger::test
