// The search for content, on real files laid down without a file system.
#include "carving/carver.h"

#include <fmt/format.h>
#include <gmock/gmock.h>
#include <random>
#include <set>

#include "carving/joining.h"
#include "support/support.h"

namespace dredger {
namespace {

using test::MemoryMedium;
using testing::ElementsAre;

constexpr std::size_t kSector = 512;

// A medium to lay files on, and what was laid where.
class Bed {
  public:
    struct Laid {
        std::string name;
        std::vector<Extent> pieces;
    };

    void noise(std::size_t size) {
        for (std::size_t i = 0; i < size; ++i) bytes_.push_back(static_cast<std::byte>(random_()));
    }
    void zeros(std::size_t size) { bytes_.resize(bytes_.size() + size); }
    void fill_sector() { zeros((kSector - bytes_.size() % kSector) % kSector); }

    void lay(const std::string& name) {
        const auto& content = samples().at(name);
        laid_.push_back({name, {{bytes_.size(), content.size()}}});
        bytes_.insert(bytes_.end(), content.begin(), content.end());
        fill_sector();
    }
    void write(std::string_view text) {
        const auto bytes = std::as_bytes(std::span(text));
        bytes_.insert(bytes_.end(), bytes.begin(), bytes.end());
    }
    std::uint64_t size() const { return bytes_.size(); }
    // In two pieces, with `gap` foreign sectors between them.
    void lay_split(const std::string& name, std::size_t first_sectors, std::size_t gap_sectors) {
        const auto& content = samples().at(name);
        const std::size_t first = first_sectors * kSector;
        const auto split = content.begin() + static_cast<std::ptrdiff_t>(first);
        laid_.push_back(
            {name, {{bytes_.size(), first}, {bytes_.size() + first + gap_sectors * kSector, content.size() - first}}});
        bytes_.insert(bytes_.end(), content.begin(), split);
        noise(gap_sectors * kSector);
        bytes_.insert(bytes_.end(), split, content.end());
        fill_sector();
    }

    const std::vector<Laid>& laid() const { return laid_; }
    MediumPtr medium() const { return std::make_shared<MemoryMedium>(bytes_); }

    static const std::map<std::string, std::vector<std::byte>>& samples() {
        static const auto all = test::samples();
        return all;
    }

  private:
    std::vector<std::byte> bytes_;
    std::vector<Laid> laid_;
    std::mt19937 random_{5};
};

class Basket final : public FindSink {
  public:
    Result<void> take(Find&& find) override {
        finds.push_back(std::move(find));
        return {};
    }
    void take(VolumeTrace&& trace) override { traces.push_back(std::move(trace)); }
    Result<bool> reached(const SweepState& now) override {
        state = now;
        return --steps != 0;
    }
    bool should_stop() override { return wants_to_stop; }
    std::vector<Find> finds;
    std::vector<VolumeTrace> traces;
    SweepState state;
    int steps = -1;  // until it has had enough
    std::atomic<bool> wants_to_stop = false;
};

std::shared_ptr<const Content> ground_of(const MediumPtr& medium) {
    return std::make_shared<Content>(medium, std::vector<Extent>{{0, medium->size()}});
}

std::vector<Find> sweep(const MediumPtr& medium, CarveOptions options = {}) {
    Basket basket;
    Carver carver(ground_of(medium), std::move(options), {});
    EXPECT_TRUE(carver.sweep({}, basket));
    return std::move(basket.finds);
}

std::string told(const Find& find) {
    std::string text(find.format->name);
    for (const Extent& piece : find.pieces) text += fmt::format(" {}+{}", piece.offset, piece.length);
    return text;
}
std::vector<std::string> told(const std::vector<Find>& finds) {
    std::vector<std::string> all;
    for (const Find& find : finds) all.push_back(told(find));
    return all;
}
std::vector<std::string> told(const std::vector<Bed::Laid>& laid) {
    std::vector<std::string> all;
    for (const auto& file : laid) {
        all.push_back(file.name.substr(0, file.name.find('-')));
        for (const Extent& piece : file.pieces) all.back() += fmt::format(" {}+{}", piece.offset, piece.length);
    }
    return all;
}

Bed everything() {
    Bed bed;
    bed.noise(3 * kSector);
    for (const auto& [name, content] : Bed::samples()) {
        bed.lay(name);
        if (bed.laid().size() % 3 == 0) bed.noise(5 * kSector);
        if (bed.laid().size() % 3 == 1) bed.zeros(2 * kSector);
    }
    return bed;
}

TEST(Carver, FindsEveryFileOnceAndNothingElse) {
    const Bed bed = everything();
    const auto found = told(sweep(bed.medium())), laid = told(bed.laid());
    for (const std::string& one : laid) EXPECT_EQ(std::count(found.begin(), found.end(), one), 1) << one;
    for (const std::string& one : found) EXPECT_EQ(std::count(laid.begin(), laid.end(), one), 1) << one;
}

TEST(Carver, TheNumberOfWorkersChangesNothing) {
    const Bed bed = everything();
    CarveOptions alone;
    alone.workers = 1;
    CarveOptions many;
    many.workers = 5;
    EXPECT_EQ(told(sweep(bed.medium(), alone)), told(sweep(bed.medium(), many)));
}

TEST(Carver, GoesOnWhereItWasStoppedWithoutLosingOrRepeating) {
    Bed bed;
    for (unsigned n = 0; n < 6; ++n) {
        for (const char* name : {"jpeg-baseline.jpg", "iso9660-plain.iso", "png-plain.png", "zip-described.zip"})
            bed.lay(name);
        bed.zeros(3 << 20);
    }
    const MediumPtr medium = bed.medium();
    Basket basket;
    for (unsigned runs = 0; basket.state.position < medium->size() && runs < 100; ++runs) {
        basket.steps = 1;
        Carver carver(ground_of(medium), {}, {});
        ASSERT_TRUE(carver.sweep(basket.state, basket));
    }
    EXPECT_EQ(told(basket.finds), told(bed.laid()));
}

// What the sweep found torn, put together as real formats allow.
std::optional<Joined> joined(const MediumPtr& medium, const Find& find) {
    Remains remains(medium->size(), kSector);
    remains.hold({find.pieces.front().offset, kSector});
    remains.settle();
    const Format* format = measurer_of(*find.format);
    const std::uint64_t start = find.pieces.front().offset;
    Budget budget;
    Reader reader(*medium, budget, start);
    return join(*medium, remains,
                {.start = start, .format = format, .measured = measure(*format, reader), .own = medium->size() - start},
                {});
}

TEST(Carver, WhatLiesInTwoPiecesIsFoundTornAndCanBeJoined) {
    CarveOptions options;
    options.lone_heads = true;
    for (const char* name :
         {"jpeg-baseline.jpg", "jpeg-progressive.jpg", "png-plain.png", "gif-animated.gif", "zip-described.zip",
          "docx-plain.docx", "pdf-picture.pdf", "pdf-packed.pdf", "flac-plain.flac", "gz-plain.gz"}) {
        Bed bed;
        bed.noise(kSector);
        const std::size_t sectors = Bed::samples().at(name).size() / kSector;
        if (sectors < 2) continue;
        bed.lay_split(name, sectors / 2 + 1 > sectors ? sectors : sectors / 2 + 1, 7);
        bed.zeros(4 * kSector);
        const auto finds = sweep(bed.medium(), options);
        ASSERT_FALSE(finds.empty()) << name;
        EXPECT_EQ(finds[0].measured.end, Measured::End::broken) << name;
        const auto found = joined(bed.medium(), finds[0]);
        ASSERT_TRUE(found) << name;
        EXPECT_EQ(found->pieces, bed.laid()[0].pieces) << name;
    }
}

// Of this only the beginning stands there: its first entry tells of another place.
TEST(Carver, AClearBeginningIsListedWhereItsRestMayTurnUp) {
    Bed bed;
    bed.noise(kSector);
    bed.write(std::string_view("II*\0\0\x20\0\0", 8));
    bed.zeros(kSector - 8);
    bed.noise(40 * kSector);
    EXPECT_TRUE(sweep(bed.medium()).empty());
    CarveOptions options;
    options.lone_heads = true;
    const auto finds = sweep(bed.medium(), options);
    ASSERT_EQ(finds.size(), 1U);
    EXPECT_EQ(told(finds[0]), "tiff 512+512");
    EXPECT_EQ(finds[0].measured.end, Measured::End::broken);
    EXPECT_EQ(finds[0].measured.proof, Proof::none);
}

TEST(Carver, APieceThatIsJoinedByNoChecksumIsNotTakenForProven) {
    Bed bed;
    bed.lay_split("mp3-plain.mp3", 3, 5);
    bed.zeros(2 * kSector);
    CarveOptions options;
    const auto finds = sweep(bed.medium(), options);
    ASSERT_FALSE(finds.empty());
    EXPECT_NE(finds[0].measured.proof, Proof::checksums);
    const auto found = joined(bed.medium(), finds[0]);
    EXPECT_TRUE(!found || found->measured.proof != Proof::checksums);
}

TEST(Carver, ListsFilesWithinFilesOnlyWhenAsked) {
    Bed bed;
    bed.lay("tar-ustar.tar");
    EXPECT_EQ(told(sweep(bed.medium())), told(bed.laid()));
    CarveOptions options;
    options.inside = true;
    EXPECT_THAT(told(sweep(bed.medium(), options)), ElementsAre("tar 0+10240", "csv 512+1036"));
}

TEST(Carver, LooksOnlyForWhatIsWanted) {
    const Bed bed = everything();
    CarveOptions options;
    options.wanted.formats = {"docx", "svg"};
    const auto finds = sweep(bed.medium(), options);
    std::multiset<std::string> found, laid;
    for (const Find& find : finds) found.emplace(find.format->name);
    for (const Bed::Laid& file : bed.laid())
        if (file.name.starts_with("docx-") || file.name.starts_with("svg-"))
            laid.insert(file.name.substr(0, file.name.find('-')));
    EXPECT_EQ(found, laid);
    options.wanted = {{Kind::mail}, {}};
    for (const Find& find : sweep(bed.medium(), options)) EXPECT_EQ(find.format->kind, Kind::mail);
}

TEST(Carver, FilesThatBeginAnywhereAreFoundWhenAsked) {
    Bed bed;
    bed.noise(777);
    const std::uint64_t start = 777;
    bed.lay("png-plain.png");
    EXPECT_TRUE(sweep(bed.medium()).empty());
    CarveOptions options;
    options.every_offset = true;
    options.wanted.formats = {"png"};
    const auto finds = sweep(bed.medium(), options);
    ASSERT_EQ(finds.size(), 1U);
    EXPECT_EQ(finds[0].pieces.front().offset, start);
}

TEST(Carver, GoesAroundWhatIsTaken) {
    Bed bed;
    bed.lay_split("png-plain.png", 8, 16);
    const MediumPtr medium = bed.medium();
    const std::vector<Extent> free = {{0, 8 * kSector}, {24 * kSector, medium->size() - 24 * kSector}};
    Basket basket;
    Carver carver(std::make_shared<Content>(medium, free), {}, {});
    ASSERT_TRUE(carver.sweep({}, basket));
    EXPECT_EQ(told(basket.finds), told(bed.laid()));
}

TEST(Carver, LeavesOutWhatIsKnownAlready) {
    const Bed bed = everything();
    Coverage known;
    for (const auto& file : bed.laid())
        if (file.name.starts_with("p")) known.add(file.pieces.front());
    Basket basket;
    Carver carver(ground_of(bed.medium()), {}, std::move(known));
    ASSERT_TRUE(carver.sweep({}, basket));
    for (const Find& find : basket.finds) EXPECT_FALSE(find.format->name.starts_with("p")) << told(find);
    EXPECT_GT(basket.finds.size(), 60U);
}

TEST(Carver, APartThatCanNotBeReadCostsOnlyWhatLiesThere) {
    const Bed bed = everything();
    const auto bytes = std::make_shared<const std::vector<std::byte>>([&] {
        const auto medium = bed.medium();
        return medium->bytes(0, static_cast<std::size_t>(medium->size())).value();
    }());
    auto medium = std::make_shared<MemoryMedium>(bytes);
    const Extent lost = bed.laid()[10].pieces.front();
    medium->make_unreadable({lost.offset, lost.length});
    const auto finds = sweep(medium);
    EXPECT_GE(finds.size(), bed.laid().size() - 2);
}

// A medium that knows where it has holes, as virtual disks and sparse images do.
class WithHoles final : public Medium {
  public:
    explicit WithHoles(MediumPtr whole, std::vector<Extent> holes) : whole_(std::move(whole)), holes_(holes) {}
    std::uint64_t size() const override { return whole_->size(); }
    std::uint32_t sector_size() const override { return whole_->sector_size(); }
    std::string name() const override { return "with holes"; }
    std::uint64_t zeros_from(std::uint64_t offset) const override {
        return holes_.covers(offset) ? holes_.end_at(offset) - offset : 0;
    }
    mutable std::atomic<std::uint64_t> read_in_vain = 0;  // bytes of holes

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override {
        for (const Extent& hole : holes_.within(offset, into.size())) read_in_vain += hole.length;
        return whole_->read(offset, into, &bad);
    }

  private:
    MediumPtr whole_;
    Coverage holes_;
};

TEST(Carver, PassesOverHolesAndMissesNothingAroundThem) {
    constexpr std::uint64_t kBlock = 1 << 20;
    Bed bed;
    std::vector<Extent> holes;
    std::uint64_t in_holes = 0;
    const auto names = {"jpeg-baseline.jpg", "iso9660-plain.iso", "png-plain.png", "zip-described.zip"};
    for (const std::uint64_t length : {kBlock / 2, kBlock - 512, kBlock, kBlock + 512, 3 * kBlock + 512, 9 * kBlock}) {
        for (const char* name : names) {
            bed.lay(name);
            holes.push_back({bed.size(), length});
            bed.zeros(length);
            in_holes += length;
        }
    }
    const auto medium = std::make_shared<WithHoles>(bed.medium(), holes);
    const auto found = told(sweep(medium));
    EXPECT_EQ(found, told(sweep(bed.medium())));
    EXPECT_EQ(found.size(), holes.size());
    EXPECT_LT(medium->read_in_vain, in_holes / 2) << "of " << in_holes;

    // One that is stopped goes on behind a hole.
    Basket basket;
    while (basket.state.position < medium->size()) {
        basket.steps = 1;
        ASSERT_TRUE(Carver(ground_of(medium), {}, {}).sweep(basket.state, basket));
    }
    EXPECT_EQ(told(basket.finds), found);
}

// The header of a program that says it reaches far behind what is left of it.
std::string cut_core(std::uint64_t says) {
    std::string core(
        "\x7F"
        "ELF\2\1\1",
        7);
    core.resize(64 + 56);
    const auto put = [&](std::size_t at, std::uint64_t value, unsigned bytes) {
        for (unsigned i = 0; i < bytes; ++i) core[at + i] = static_cast<char>(value >> (8 * i));
    };
    put(16, 4, 2);   // a core
    put(32, 64, 8);  // the table of segments
    put(54, 56, 2);  // of this size,
    put(56, 1, 2);   // one of them
    put(64 + 32, says, 8);
    return core + std::string(900, 'c');
}

TEST(Carver, ALengthThatAHeaderTellsHidesNothingThatStandsAlone) {
    Bed bed;
    bed.write(cut_core(1 << 20));
    bed.fill_sector();
    for (const char* name : {"jpeg-baseline.jpg", "png-plain.png", "bmp-plain.bmp", "gz-plain.gz"}) bed.lay(name);
    bed.zeros(2 << 20);
    const auto found = told(sweep(bed.medium()));
    for (const std::string& one : told(bed.laid())) EXPECT_THAT(found, testing::Contains(one));
}

TEST(Carver, WhatReachesBehindTheMediumHidesNothing) {
    Bed bed;
    // A raw picture whose strip lies behind everything.
    std::string raw("II*\0\x08\0\0\0\4\0", 10);
    const auto entry = [&](unsigned tag, unsigned value) {
        for (const unsigned part : {tag & 255U, tag >> 8, 4U, 0U, 1U, 0U, 0U, 0U}) raw += static_cast<char>(part);
        for (unsigned i = 0; i < 4; ++i) raw += static_cast<char>(value >> (8 * i));
    };
    for (const auto& [tag, value] : {std::pair(256U, 4000U), {257U, 3000U}, {273U, 4096U}, {279U, 1U << 30}})
        entry(tag, value);
    bed.write(raw + std::string(4, '\0'));
    bed.fill_sector();
    for (const char* name : {"jpeg-grey.jpg", "bmp-plain.bmp", "csv-plain.csv"}) bed.lay(name);
    bed.zeros(4 * kSector);
    const auto found = told(sweep(bed.medium()));
    for (const std::string& one : told(bed.laid())) EXPECT_THAT(found, testing::Contains(one));
}

TEST(Carver, SaysWhereSomethingFollowsInTheLastSector) {
    Bed bed;
    bed.lay("jpeg-baseline.jpg");
    const std::uint64_t end = bed.laid().front().pieces.front().length;
    ASSERT_NE(end % kSector, 0U);
    EXPECT_FALSE(sweep(bed.medium()).at(0).is_followed);
    Bed followed;
    const auto& content = Bed::samples().at("jpeg-baseline.jpg");
    followed.write(std::string_view(reinterpret_cast<const char*>(content.data()), content.size()));
    followed.noise(3 * kSector);
    followed.fill_sector();
    const auto finds = sweep(followed.medium());
    ASSERT_FALSE(finds.empty());
    EXPECT_TRUE(finds[0].is_followed);
    EXPECT_EQ(finds[0].size, end);
}

TEST(Carver, TextThatIsClosedIsFoundBehindOtherText) {
    const std::string before = "the rest of what somebody wrote of the weather and of the sea that day, and went";
    Bed bed;
    bed.noise(kSector);
    while (bed.size() < 4 * kSector) bed.write(before.substr(0, std::min<std::size_t>(80, 4 * kSector - bed.size())));
    const std::uint64_t json = bed.size();
    const std::string plots = "{\n \"plots\": [\"north\", \"south\"],\n \"burrows\": [40, 80, 120]\n}\n";
    bed.write(plots);
    bed.fill_sector();
    // The same within a longer one is a part of it.
    while (bed.size() < 8 * kSector) bed.write(before.substr(0, std::min<std::size_t>(80, 8 * kSector - bed.size())));
    bed.write(plots.substr(0, plots.size() - 1) + ", {\"more\": 1}]\n");
    bed.fill_sector();
    const auto finds = sweep(bed.medium());
    EXPECT_THAT(told(finds), testing::Contains(fmt::format("json {}+{}", json, plots.size())));
    EXPECT_EQ(std::count_if(finds.begin(), finds.end(), [](const Find& f) { return f.format->name == "json"; }), 1);
}

TEST(Carver, APageWithoutItsEndTagEndsWhereZerosFollowAndTakesNothingFromOthers) {
    const std::string page =
        "<!DOCTYPE html>\n<html><head><title>Landing</title></head>\n<body><p>By permit only, and "
        "never at dusk, when the shearwaters come in.\n<p>The warden meets every boat.\n";
    Bed bed;
    bed.write(page);
    bed.fill_sector();
    bed.noise(9 * kSector);
    bed.lay("html-plain.html");
    CarveOptions options;
    const auto finds = sweep(bed.medium(), options);
    ASSERT_FALSE(finds.empty());
    EXPECT_EQ(told(finds[0]), fmt::format("html 0+{}", page.size()));
    EXPECT_EQ(finds[0].measured.end, Measured::End::open);
}

TEST(Coverage, JoinsRunsThatTouch) {
    Coverage coverage;
    coverage.add({100, 50});
    coverage.add({200, 50});
    coverage.add({150, 50});
    EXPECT_THAT(coverage.extents(), ElementsAre(Extent{100, 150}));
    EXPECT_TRUE(coverage.covers(249));
    EXPECT_FALSE(coverage.covers(250));
    EXPECT_EQ(coverage.end_at(120), 250U);
    coverage.forget_before(300);
    EXPECT_TRUE(coverage.extents().empty());
}

// A measurer that is at work does not hold up whoever wants to stop.
TEST(Carver, StopsWithinAMeasurement) {
    Format endless;
    endless.name = "endless";
    endless.extensions = {"endless"};
    endless.signatures = {{{0, "ENDLESS!"}}};
    std::atomic<bool> is_measuring = false;
    endless.measure = [&](Reader& content) {
        for (std::uint64_t at = 0; content.ok(); at = (at + Reader::kWindow) % content.size()) {
            (void)content.u8(at);
            is_measuring = true;
            std::this_thread::sleep_for(std::chrono::milliseconds(1));
        }
        return nonsense();
    };
    std::vector<std::byte> bytes(8 << 20);
    std::memcpy(bytes.data() + 4096, "ENDLESS!", 8);
    const auto medium = std::make_shared<MemoryMedium>(std::move(bytes));
    CarveOptions options;
    options.further = {&endless};
    Basket basket;
    Carver carver(ground_of(medium), std::move(options), {});
    std::thread user([&] {
        while (!is_measuring) std::this_thread::yield();
        basket.wants_to_stop = true;
    });
    EXPECT_TRUE(carver.sweep({}, basket));
    user.join();
    EXPECT_EQ(basket.state.position, 0U);
}

}  // namespace
}  // namespace dredger
