// What cameras write of a picture: directories of tags as TIFF 6.0 and Exif 2.3 lay them out.
#include "formats/exif.h"

#include <gmock/gmock.h>

#include "support/support.h"

namespace dredger {
namespace {

using test::MemoryMedium;
using testing::IsEmpty;

// A TIFF header with directories, in either order of bytes.
class Tiff {
  public:
    explicit Tiff(bool big) : big_(big) {
        bytes_ = big ? "MM" : "II";
        add(42, 2);
        add(8, 4);
    }
    Tiff& directory(unsigned entries) {
        add(entries, 2);
        return *this;
    }
    Tiff& text(unsigned tag, const std::string& value) {
        entry(tag, 2, value.size() + 1);
        if (value.size() < 4) {
            bytes_ += value;
            bytes_.append(4 - value.size(), '\0');
        } else {
            texts_.push_back({bytes_.size(), value});
            add(0, 4);
        }
        return *this;
    }
    Tiff& number(unsigned tag, std::uint64_t value) {
        entry(tag, 4, 1);
        add(value, 4);
        return *this;
    }
    std::uint64_t size() const { return bytes_.size(); }
    // `before` stands in front of the header, as in a JPEG.
    Description described(const std::string& before = {}) {
        std::string whole = bytes_;
        for (const auto& [at, value] : texts_) {
            const std::string place = number_of(whole.size(), 4);
            whole.replace(at, 4, place);
            whole += value;
            whole += '\0';
        }
        const std::string content = before + whole;
        const MemoryMedium medium(test::bytes_of(content));
        Budget budget;
        Reader reader(medium, budget);
        Description said;
        formats::describe_exif(reader, before.size(), said);
        return said;
    }

  private:
    std::string number_of(std::uint64_t value, int size) const {
        std::string text;
        for (int i = 0; i < size; ++i) text += static_cast<char>(value >> (8 * (big_ ? size - 1 - i : i)) & 0xFF);
        return text;
    }
    void add(std::uint64_t value, int size) { bytes_ += number_of(value, size); }
    void entry(unsigned tag, unsigned type, std::uint64_t count) {
        add(tag, 2);
        add(type, 2);
        add(count, 4);
    }

    bool big_;
    std::string bytes_;
    std::vector<std::pair<std::size_t, std::string>> texts_;  // where their places are to be told
};

constexpr unsigned kMake = 0x010F, kModel = 0x0110, kDateTime = 0x0132, kExif = 0x8769, kOriginal = 0x9003;

TEST(Exif, TellsTheCameraAndWhenThePictureWasTaken) {
    for (const bool big : {false, true}) {
        Tiff tiff(big);
        tiff.directory(3).text(kMake, "Larus").text(kModel, "Larus Mark 2  ").text(kDateTime, "2026:06:01 10:00:00");
        const Description said = tiff.described("\xFF\xD8 anything before ");
        ASSERT_EQ(said.facts.size(), 1U);
        EXPECT_EQ(said.facts[0].value, "Larus Mark 2") << "the maker's name is not told twice";
        ASSERT_TRUE(said.date);
        EXPECT_EQ(iso8601(*said.date), "2026-06-01T10:00:00");
        EXPECT_EQ(said.date->clock, FileTime::Clock::local) << "a camera's clock knows no zone";
    }
}

TEST(Exif, ADateOfTakingOutweighsThatOfTheLastChange) {
    for (const bool big : {false, true}) {
        Tiff tiff(big);
        tiff.directory(3).text(kMake, "Uria").text(kDateTime, "2026:07:09 18:30:00").number(kExif, 8 + 2 + 3 * 12);
        EXPECT_EQ(tiff.size(), 8U + 2 + 3 * 12);
        tiff.directory(1).text(kOriginal, "2026:05:03 09:12:44");
        const Description said = tiff.described();
        ASSERT_TRUE(said.date);
        EXPECT_EQ(iso8601(*said.date), "2026-05-03T09:12:44");
        EXPECT_EQ(said.facts.at(0).value, "Uria");
    }
}

TEST(Exif, ShortNamesStandInTheirEntry) {
    Tiff tiff(true);
    tiff.directory(2).text(kMake, "Alk").text(kModel, "X1");
    EXPECT_EQ(tiff.described().facts.at(0).value, "Alk X1");
}

TEST(Exif, WhatMakesNoSenseTellsNothing) {
    Tiff dates(false);
    dates.directory(2).text(kDateTime, "2026:13:41 99:00:00").text(kOriginal, "yesterday");
    EXPECT_FALSE(dates.described().date);
    Tiff circle(false);
    circle.directory(1).number(kExif, 8);
    EXPECT_THAT(circle.described().facts, IsEmpty());
    Tiff beyond(true);
    beyond.directory(60'000).number(kExif, 0xFFFF'FFF0);
    EXPECT_THAT(beyond.described().facts, IsEmpty());
    EXPECT_FALSE(beyond.described().date);
}

TEST(Exif, NothingThatSteersATerminalComesOutOfIt) {
    Tiff tiff(false);
    tiff.directory(1).text(kModel, "Larus\x1B[2J 7");
    EXPECT_EQ(tiff.described().facts.at(0).value, "Larus\xEF\xBF\xBD[2J 7");
}

TEST(Exif, PicturesWithoutANameAreCalledByDateAndCamera) {
    Description said;
    formats::title_from_camera(said);
    EXPECT_EQ(said.title, "");
    said.facts = {{"camera", "Larus Mark 2"}};
    formats::title_from_camera(said);
    EXPECT_EQ(said.title, "Larus Mark 2");
    said.title.clear();
    said.date = FileTime{1'777'799'564, 0, FileTime::Clock::local};
    formats::title_from_camera(said);
    EXPECT_EQ(said.title, "2026-05-03 09.12.44 Larus Mark 2");
    formats::title_from_camera(said);
    EXPECT_EQ(said.title, "2026-05-03 09.12.44 Larus Mark 2") << "one that it has stays";
}

}  // namespace
}  // namespace dredger
