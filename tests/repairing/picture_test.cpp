#include <cmath>
#include <cstdio>
#include <gmock/gmock.h>
#include <jpeglib.h>
#include <zlib.h>

#include "preview/decoders.h"
#include "repairing/mended.h"

namespace dredger::test {
namespace {

using namespace std::string_literals;
using namespace std::string_view_literals;
using repairing::Outcome;
using testing::HasSubstr;

// Pixel by pixel; empty where not a row can be decoded.
preview::Picture decoded(const Bytes& jpeg) {
    constexpr int kLongerSide = 96;  // of all samples
    return preview::decode_jpeg(MemoryMedium(jpeg), kLongerSide).value_or(preview::Picture());
}

// Rows of pixels that are those of the other picture but for their brightness, which can only be fitted.
std::size_t like_rows(const Bytes& jpeg, const Bytes& original) {
    const preview::Picture a = decoded(jpeg);
    const preview::Picture b = decoded(original);
    if (a.empty() || a.width != b.width || a.height != b.height) return 0;
    const auto stride = static_cast<std::size_t>(a.width);
    std::size_t rows = 0;
    for (std::size_t y = 0; y < static_cast<std::size_t>(a.height); ++y) {
        double apart = 0;
        for (const int shift : {0, 8, 16}) {
            const auto step = [&](std::size_t x) {
                return static_cast<int>(a.pixels[y * stride + x] >> shift & 255U) -
                       static_cast<int>(b.pixels[y * stride + x] >> shift & 255U);
            };
            double mean = 0;
            for (std::size_t x = 0; x < stride; ++x) mean += step(x);
            mean /= static_cast<double>(stride);
            for (std::size_t x = 0; x < stride; ++x) apart += std::abs(step(x) - mean);
        }
        rows += apart <= 18 * static_cast<double>(stride) ? 1 : 0;
    }
    return rows;
}

std::size_t rows_of(const Bytes& jpeg) { return static_cast<std::size_t>(decoded(jpeg).height); }
std::size_t scan_of(const Bytes& jpeg) { return place_of(jpeg, "\xFF\xDA"sv) + 14; }

class Jpegs : public testing::TestWithParam<const char*> {};
INSTANTIATE_TEST_SUITE_P(OfEachKind, Jpegs,
                         testing::Values("jpeg-baseline.jpg", "jpeg-restarts.jpg", "jpeg-grey.jpg",
                                         "jpeg-progressive.jpg"),
                         [](const auto& writer) {
                             const std::string name = writer.param;
                             return name.substr(5, name.find('.') - 5);
                         });

TEST_P(Jpegs, ThatAreWholeStayWhatTheyAre) {
    const MendedBytes mended = mend(GetParam(), sample(GetParam()));
    EXPECT_EQ(mended.outcome(), Outcome::whole) << mended.said();
    EXPECT_EQ(mended.result, sample(GetParam()));
}

TEST_P(Jpegs, ThatEndTooEarlyKeepTheirRows) {
    const Bytes& whole = sample(GetParam());
    const Bytes damaged = cut(whole, whole.size() * 7 / 10);
    const MendedBytes mended = mend(GetParam(), damaged);
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_GE(like_rows(mended.result, whole) + 16, like_rows(damaged, whole));
}

class SequentialJpegs : public testing::TestWithParam<const char*> {};
INSTANTIATE_TEST_SUITE_P(OfEachKind, SequentialJpegs,
                         testing::Values("jpeg-baseline.jpg", "jpeg-restarts.jpg", "jpeg-grey.jpg"),
                         [](const auto& writer) {
                             const std::string name = writer.param;
                             return name.substr(5, name.find('.') - 5);
                         });

TEST_P(SequentialJpegs, WithoutTheirFirstBytesAreWholePixelForPixel) {
    const Bytes& whole = sample(GetParam());
    const MendedBytes mended = mend(GetParam(), zeroed(whole, 0, 20));
    EXPECT_EQ(mended.outcome(), Outcome::mended) << mended.said();
    EXPECT_EQ(decoded(mended.result).pixels, decoded(whole).pixels);
}

TEST_P(SequentialJpegs, WithJunkBetweenTheirSegmentsAreWholePixelForPixel) {
    const Bytes& whole = sample(GetParam());
    const MendedBytes mended = mend(GetParam(), with_noise_inserted(whole, 20, 700));
    EXPECT_EQ(mended.outcome(), Outcome::mended) << mended.said();
    EXPECT_EQ(decoded(mended.result).pixels, decoded(whole).pixels);
}

TEST_P(SequentialJpegs, WithALostHeaderTakeThatOfAReference) {
    const Bytes& whole = sample(GetParam());
    const Bytes damaged = zeroed(whole, 0, scan_of(whole) - (std::string_view(GetParam()) == "jpeg-grey.jpg" ? 4 : 0));
    const MendedBytes mended = mend(GetParam(), damaged, {GetParam()});
    EXPECT_EQ(mended.outcome(), Outcome::mended) << mended.said();
    EXPECT_EQ(decoded(mended.result).pixels, decoded(whole).pixels);
    EXPECT_THAT(mended.said(), HasSubstr("taken from"));
}

TEST_P(SequentialJpegs, GoOnBehindAHole) {
    const Bytes& whole = sample(GetParam());
    const std::size_t at = scan_of(whole) + (whole.size() - scan_of(whole)) / 3;
    const MendedBytes mended = mend(GetParam(), zeroed(whole, at, 128));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_GT(mended.done.kept * 10, mended.done.of * 6) << mended.said();
    EXPECT_GT(like_rows(mended.result, whole) * 10, rows_of(whole) * 6);
}

// Of a camera that writes the usual code tables: waves of a length of their own, so that every row fits one place.
Bytes photo(double waves, unsigned restart_rows = 0, double contrast = 1, unsigned smaller = 1) {
    const unsigned width = 384 / smaller, height = 256 / smaller;
    jpeg_compress_struct jpeg{};
    jpeg_error_mgr errors{};
    jpeg.err = jpeg_std_error(&errors);
    jpeg_create_compress(&jpeg);
    unsigned char* made = nullptr;
    unsigned long size = 0;
    jpeg_mem_dest(&jpeg, &made, &size);
    jpeg.image_width = width;
    jpeg.image_height = height;
    jpeg.input_components = 3;
    jpeg.in_color_space = JCS_RGB;
    jpeg_set_defaults(&jpeg);
    jpeg_set_quality(&jpeg, 90, TRUE);
    jpeg.restart_in_rows = static_cast<int>(restart_rows);
    jpeg_start_compress(&jpeg, TRUE);
    for (unsigned y = 0; y < height; ++y) {
        std::vector<JSAMPLE> row;
        for (unsigned x = 0; x < width; ++x)
            for (const double colour : {0.9, 1.0, 1.2})
                row.push_back(static_cast<JSAMPLE>(
                    128 + contrast * (60 * std::sin(waves * x * smaller / 40 + y * smaller / 90.0) * colour +
                                      40 * std::cos(x * smaller / 7.0 + waves * y * smaller / 30))));
        JSAMPROW rows[] = {row.data()};
        jpeg_write_scanlines(&jpeg, rows, 1);
    }
    jpeg_finish_compress(&jpeg);
    jpeg_destroy_compress(&jpeg);
    const auto* bytes = reinterpret_cast<const std::byte*>(made);
    Bytes photo(bytes, bytes + size);
    std::free(made);
    return photo;
}

// What a card's next file does to a photo: its first clusters are another's.
class BeheadedJpegs : public testing::TestWithParam<unsigned> {
  protected:
    MendedBytes mended_with(const std::vector<Bytes>& references) {
        std::vector<repairing::Reference> given;
        for (const Bytes& reference : references)
            given.push_back({std::make_shared<MemoryMedium>(reference), "other.jpg"});
        return mend_with("nest.jpg", damaged, std::move(given), holes);
    }
    const Bytes whole = photo(1.7, GetParam());
    Bytes damaged = zeroed(whole, 0, 5000);
    std::vector<Extent> holes;
};
INSTANTIATE_TEST_SUITE_P(RestartingAfterRows, BeheadedJpegs, testing::Values(0, 1), testing::PrintToStringParamName());

TEST_P(BeheadedJpegs, ShowTheRestOfTheirRowsInPlaceWithAReference) {
    const MendedBytes mended = mended_with({photo(2.9, GetParam())});
    EXPECT_EQ(mended.outcome(), Outcome::partly) << mended.said();
    EXPECT_GT(mended.done.kept, 150U) << mended.said();
    EXPECT_GE(like_rows(mended.result, whole) + 8, mended.done.kept * decoded(whole).height / 256);
    EXPECT_EQ(mended.said().find("brightness and colours are guessed") == std::string::npos, GetParam() == 1);
}

TEST_P(BeheadedJpegs, TakeNothingOfWhatLiesOnTheirHead) {
    damaged = with_noise(whole, 0, 5000);
    const MendedBytes mended = mended_with({photo(2.9, GetParam())});
    EXPECT_EQ(mended.outcome(), Outcome::partly) << mended.said();
    EXPECT_GT(mended.done.kept, 150U) << mended.said();
    EXPECT_GE(like_rows(mended.result, whole) + 8, mended.done.kept * decoded(whole).height / 256);
}

TEST_P(BeheadedJpegs, WithoutAReferenceAskForOne) {
    const MendedBytes mended = mended_with({});
    EXPECT_EQ(mended.outcome(), Outcome::wants_reference) << mended.said();
    EXPECT_TRUE(mended.result.empty());
}

// The mean of the brightness of pixels, and how far they spread.
std::pair<double, double> contrast_of(const Bytes& jpeg) {
    const preview::Picture picture = decoded(jpeg);
    double sum = 0, squares = 0;
    for (const std::uint32_t pixel : picture.pixels) {
        const auto level = static_cast<double>(pixel >> 8 & 255U);
        sum += level;
        squares += level * level;
    }
    const auto count = static_cast<double>(picture.pixels.size());
    return {sum / count, std::sqrt(squares / count - sum / count * sum / count)};
}

// Without its quantisation tables.
Bytes unscaled(Bytes jpeg) {
    for (std::size_t at = place_of(jpeg, "\xFF\xDB"sv); at < scan_of(jpeg); at = place_of(jpeg, "\xFF\xDB"sv, at))
        jpeg = zeroed(std::move(jpeg), at, 2 + 67);
    return jpeg;
}

TEST(Jpegs, WithoutQuantisationFillTheRangeOfBrightness) {
    const Bytes whole = photo(1.7);
    const MendedBytes mended = mend("nest.jpg", unscaled(whole));
    EXPECT_EQ(mended.outcome(), Outcome::partly) << mended.said();
    EXPECT_THAT(mended.said(), HasSubstr("its quantisation is lost"));
    EXPECT_EQ(mended.done.kept, 256U);
    const auto [mean, spread] = contrast_of(mended.result);
    const auto [true_mean, true_spread] = contrast_of(whole);
    EXPECT_NEAR(mean, true_mean, 12);
    EXPECT_NEAR(spread / true_spread, 1, 0.4);
}

TEST(Jpegs, WithoutQuantisationHaveTheContrastOfTheirThumbnail) {
    // Dim: nothing in the picture itself tells by how much.
    const Bytes whole = photo(1.7, 0, 0.3);
    const Bytes small = photo(1.7, 0, 0.3, 8);
    Bytes with_small(whole.begin(), whole.begin() + 2);
    const std::size_t length = 2 + 14 + small.size();
    const Bytes head = bytes_of("\xFF\xE1"s + static_cast<char>(length >> 8) + static_cast<char>(length & 255U) +
                                "Exif\0\0MM\0*\0\0\0\x08"s);
    with_small.insert(with_small.end(), head.begin(), head.end());
    with_small.insert(with_small.end(), small.begin(), small.end());
    with_small.insert(with_small.end(), whole.begin() + 2, whole.end());
    Bytes damaged = with_small;
    for (std::size_t at = place_of(damaged, "\xFF\xDB"sv, length); at != std::string::npos;
         at = place_of(damaged, "\xFF\xDB"sv, at))
        damaged = zeroed(std::move(damaged), at, 2 + 67);
    const MendedBytes mended = mend("nest.jpg", damaged);
    EXPECT_THAT(mended.said(), HasSubstr("contrast is that of its thumbnail"));
    EXPECT_NEAR(contrast_of(mended.result).second / contrast_of(whole).second, 1, 0.1);
}

TEST(Jpegs, AskForAReferenceWhereNothingElseHelps) {
    // Tables of its own, which nobody can guess.
    const Bytes& whole = sample("jpeg-baseline.jpg");
    const MendedBytes mended = mend("nest.jpg", zeroed(whole, 0, scan_of(whole)));
    if (mended.outcome() == Outcome::mended) GTEST_SKIP() << "it was written with the usual tables";
    EXPECT_EQ(mended.outcome(), Outcome::wants_reference);
    EXPECT_THAT(mended.said(), HasSubstr("another photo of the same camera"));
}

TEST(Jpegs, WhatFollowsAPhotoStaysWithIt) {
    Bytes with_film = sample("jpeg-baseline.jpg");
    const Bytes& film = sample("mp4-last.mp4");
    with_film.insert(with_film.end(), film.begin(), film.end());
    const MendedBytes mended = mend("moving.jpg", with_film);
    EXPECT_EQ(mended.outcome(), Outcome::whole);
    EXPECT_EQ(mended.result, with_film);
}

TEST(RawPictures, AreWholeWhereNothingIsWrong) {
    for (const char* name : {"tiff-strips.tiff", "tiff-wide.tif", "heic-still.heic", "avif-still.avif"}) {
        const MendedBytes mended = mend(name, sample(name));
        EXPECT_EQ(mended.outcome(), Outcome::whole) << name << ": " << mended.said();
        EXPECT_EQ(mended.result, sample(name)) << name;
    }
}

TEST(RawPictures, ALostHeadIsMadeAnewFromTheDirectory) {
    const Bytes& whole = sample("tiff-strips.tiff");
    const MendedBytes mended = mend("chart.tif", zeroed(whole, 0, 8));
    EXPECT_EQ(mended.result, whole) << mended.said();
    // The pixels follow the head: how much of them was lost with it does not show.
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_LT(mended.done.kept, mended.done.of);
}

TEST(RawPictures, OfWhatIsCutThePreviewIsSaved) {
    const Bytes& photo = sample("jpeg-baseline.jpg");
    Bytes raw = sample("tiff-strips.tiff");  // its directory is the last thing in it
    std::copy(photo.begin(), photo.end(), raw.begin() + 20000);
    const MendedBytes mended = mend("burrow.nef", cut(raw, 40000));
    EXPECT_EQ(mended.outcome(), Outcome::beyond) << mended.said();
    ASSERT_EQ(mended.beside.size(), 1U);
    EXPECT_EQ(mended.beside.at(" (preview).jpg"), photo);
}

TEST(RawPictures, WhatLiesInAHoleStandsAsZeros) {
    const Bytes& whole = sample("tiff-strips.tiff");
    const MendedBytes mended = mend("chart.tif", whole, {}, {{1024, 512}});
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_EQ(mended.result, zeroed(whole, 1024, 512));
    EXPECT_EQ(mended.done.kept, whole.size() - 512);
}

std::string rows_of_png(const Bytes& png) {
    std::string packed;
    for (std::size_t at = place_of(png, "IDAT"); at != std::string::npos; at = place_of(png, "IDAT", at + 4)) {
        std::uint32_t length = 0;
        for (std::size_t i = 0; i < 4; ++i) length = length << 8 | std::to_integer<std::uint32_t>(png[at - 4 + i]);
        packed.append(reinterpret_cast<const char*>(png.data()) + at + 4, length);
    }
    std::string rows(8 << 20, '\0');
    uLongf size = rows.size();
    EXPECT_EQ(uncompress(reinterpret_cast<Bytef*>(rows.data()), &size, reinterpret_cast<const Bytef*>(packed.data()),
                         packed.size()),
              Z_OK);
    rows.resize(size);
    return rows;
}

TEST(Pngs, GetChecksumsAndEndsAnew) {
    const Bytes& whole = sample("png-plain.png");
    for (const Bytes& damaged : {zeroed(whole, place_of(whole, "IDAT") - 12, 4), cut(whole, whole.size() - 12),
                                 with_noise_inserted(whole, 0, 99)}) {
        const MendedBytes mended = mend("map.png", damaged);
        EXPECT_EQ(mended.outcome(), Outcome::mended) << mended.said();
        EXPECT_TRUE(measured("png", mended.result).is_whole());
        EXPECT_EQ(rows_of_png(mended.result), rows_of_png(whole));
    }
}

TEST(Pngs, FindTheSizeAtWhichRowsMakeSense) {
    const Bytes& whole = sample("png-plain.png");
    const MendedBytes mended = mend("map.png", zeroed(whole, 0, 33));
    EXPECT_EQ(mended.outcome(), Outcome::mended) << mended.said();
    EXPECT_EQ(Bytes(mended.result.begin() + 16, mended.result.begin() + 26),
              Bytes(whole.begin() + 16, whole.begin() + 26));
}

TEST(Pngs, KeepTheRowsBeforeDamage) {
    const Bytes& whole = sample("png-plain.png");
    const MendedBytes mended = mend("map.png", cut(whole, whole.size() * 6 / 10));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_TRUE(measured("png", mended.result).is_whole());
    const std::string all = rows_of_png(whole);
    const std::string kept = rows_of_png(mended.result);
    const std::size_t row = all.size() / mended.done.of;
    EXPECT_GT(mended.done.kept, 0U);
    EXPECT_EQ(kept.substr(0, mended.done.kept * row), all.substr(0, mended.done.kept * row));
}

}  // namespace
}  // namespace dredger::test
