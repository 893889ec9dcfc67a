// Pictures, films and sounds of samples that other programs made, whole and damaged.
#include "preview/decoders.h"

#include <gmock/gmock.h>

#include "preview/sandbox.h"
#include "support/support.h"

namespace dredger::preview {
namespace {

using test::MemoryMedium;

const std::map<std::string, std::vector<std::byte>>& all_samples() {
    static const auto samples = test::samples();
    return samples;
}
MemoryMedium sample(const std::string& name) { return MemoryMedium(all_samples().at(name)); }

std::vector<std::byte> cut(const std::string& name, double share) {
    const auto& whole = all_samples().at(name);
    return {whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(share * static_cast<double>(whole.size()))};
}

class PictureSample : public testing::TestWithParam<const char*> {};

TEST_P(PictureSample, CanBeSeen) {
    const MemoryMedium content = sample(GetParam());
    const auto picture = decode_picture(content, 64);
    ASSERT_TRUE(picture);
    EXPECT_GT(picture->width, 0);
    EXPECT_EQ(picture->good_rows, picture->height);
    EXPECT_EQ(picture->pixels.size(),
              static_cast<std::size_t>(picture->width) * static_cast<std::size_t>(picture->height));
}

INSTANTIATE_TEST_SUITE_P(Formats, PictureSample,
                         testing::Values("png-plain.png", "png-interlaced.png", "gif-still.gif", "gif-animated.gif",
                                         "bmp-plain.bmp", "tiff-strips.tiff", "webp-lossy.webp", "webp-lossless.webp",
                                         "heic-still.heic", "avif-still.avif", "jpeg2000-box.jp2",
                                         "jpeg-progressive.jpg", "psd-8bit.psd"),
                         [](const auto& one) {
                             std::string name = one.param;
                             std::replace_if(
                                 name.begin(), name.end(), [](char c) { return !std::isalnum(c); }, '_');
                             return name;
                         });

TEST(Jpeg, IsReducedButNotTooFar) {
    const MemoryMedium content = sample("jpeg-baseline.jpg");
    const auto large = decode_jpeg(content, 10'000);
    const auto small = decode_jpeg(content, 16);
    ASSERT_TRUE(large && small);
    EXPECT_GE(std::max(small->width, small->height), 16);
    EXPECT_LT(small->width, large->width);
    EXPECT_EQ(small->good_rows, small->height);
}

TEST(Jpeg, OfHalfAPictureTheUpperRowsAreGood) {
    for (const char* name : {"jpeg-baseline.jpg", "jpeg-grey.jpg", "jpeg-restarts.jpg"}) {
        const MemoryMedium content(cut(name, 0.6));
        const auto picture = decode_jpeg(content, 10'000);
        ASSERT_TRUE(picture) << name;
        EXPECT_GT(picture->good_rows, 0) << name;
        EXPECT_LT(picture->good_rows, picture->height) << name;
        const auto whole = decode_jpeg(sample(name), 10'000);
        const auto good = static_cast<std::ptrdiff_t>((picture->good_rows - 16) * picture->width);
        ASSERT_GT(good, 0) << name;
        EXPECT_TRUE(std::equal(picture->pixels.begin(), picture->pixels.begin() + good, whole->pixels.begin())) << name;
    }
}

TEST(Jpeg, NothingOfAPictureIsNoPicture) {
    EXPECT_FALSE(decode_jpeg(MemoryMedium(cut("jpeg-baseline.jpg", 0.02)), 64));
    EXPECT_FALSE(decode_jpeg(MemoryMedium(std::vector<std::byte>(5000)), 64));
    EXPECT_FALSE(decode_jpeg(MemoryMedium(std::vector<std::byte>()), 64));
}

TEST(Film, ShowsFramesAndItsLength) {
    for (const char* name : {"mp4-first.mp4", "mp4-last.mp4", "mkv-plain.mkv", "webm-plain.webm", "avi-plain.avi"}) {
        const MemoryMedium content = sample(name);
        const Film film = decode_film(content, 4, 80);
        EXPECT_FALSE(film.frames.empty()) << name;
        EXPECT_GT(film.seconds, 0) << name;
        EXPECT_THAT(film.described, testing::HasSubstr(" x ")) << name;
        for (const Picture& frame : film.frames) EXPECT_LE(std::max(frame.width, frame.height), 80) << name;
    }
    EXPECT_TRUE(decode_film(MemoryMedium(std::vector<std::byte>(4096)), 4, 80).frames.empty());
}

TEST(Sound, HasALengthAWaveAndAClip) {
    for (const char* name : {"wav-plain.wav", "mp3-tagged.mp3", "flac-plain.flac", "ogg-plain.ogg", "opus-plain.opus",
                             "m4a-plain.m4a", "aac-plain.aac", "aiff-plain.aiff", "wma-plain.wma"}) {
        const MemoryMedium content = sample(name);
        const auto sound = decode_sound(content);
        ASSERT_TRUE(sound) << name;
        EXPECT_GT(sound->seconds, 0.2) << name;
        EXPECT_NEAR(static_cast<double>(sound->peaks.size()), sound->seconds * 20, 1.01) << name;
        EXPECT_GT(*std::max_element(sound->peaks.begin(), sound->peaks.end()), 0.01F) << name << " is silent";
        EXPECT_NEAR(static_cast<double>(sound->clip.size()), std::min(20.0, sound->seconds) * Sound::kRate, 2) << name;
    }
    EXPECT_FALSE(decode_sound(MemoryMedium(std::vector<std::byte>(4096))));
}

TEST(Page, IsDrawnUpright) {
    for (const char* name : {"pdf-linear.pdf", "pdf-packed.pdf", "pdf-picture.pdf"}) {
        const MemoryMedium content = sample(name);
        const auto page = decode_first_page(content, 200);
        ASSERT_TRUE(page) << name;
        EXPECT_NEAR(std::max(page->width, page->height), 200, 2) << name;
        EXPECT_GT(
            std::count_if(page->pixels.begin(), page->pixels.end(), [](std::uint32_t p) { return p != 0xFFFFFF; }), 0)
            << name << " is blank";
    }
    EXPECT_FALSE(decode_first_page(MemoryMedium(std::vector<std::byte>(4096)), 200));
}

TEST(Oriented, TurnsAsTheCameraWasHeld) {
    // 1 2 3
    // 4 5 6
    const Picture picture = {3, 2, {1, 2, 3, 4, 5, 6}, 2};
    const auto turned = [&](unsigned orientation) { return oriented(picture, orientation).pixels; };
    EXPECT_EQ(turned(1), picture.pixels);
    EXPECT_EQ(turned(2), (std::vector<std::uint32_t>{3, 2, 1, 6, 5, 4}));
    EXPECT_EQ(turned(3), (std::vector<std::uint32_t>{6, 5, 4, 3, 2, 1}));
    EXPECT_EQ(turned(4), (std::vector<std::uint32_t>{4, 5, 6, 1, 2, 3}));
    EXPECT_EQ(turned(5), (std::vector<std::uint32_t>{1, 4, 2, 5, 3, 6}));
    EXPECT_EQ(turned(6), (std::vector<std::uint32_t>{4, 1, 5, 2, 6, 3})) << "the top was on the right";
    EXPECT_EQ(turned(7), (std::vector<std::uint32_t>{6, 3, 5, 2, 4, 1}));
    EXPECT_EQ(turned(8), (std::vector<std::uint32_t>{3, 6, 2, 5, 1, 4}));
    EXPECT_EQ(turned(99), picture.pixels);
    EXPECT_EQ(oriented(picture, 6).width, 2);
    // The lower row was lost: turned, that is the left column.
    const Picture half = {3, 2, {1, 2, 3, 4, 5, 6}, 1};
    const auto left = oriented(half, 6);
    EXPECT_EQ(left.pixels[1], 1U);
    EXPECT_EQ(left.pixels[0], left.pixels[2]) << "all of it in the colour of paper";
    EXPECT_EQ(left.pixels[0], left.pixels[4]);
}

TEST(Likeness, IsThatOfWhatIsSeen) {
    const auto baseline = decode_jpeg(sample("jpeg-baseline.jpg"), 64);
    const auto large = decode_jpeg(sample("jpeg-baseline.jpg"), 10'000);
    ASSERT_TRUE(baseline && large);
    const auto apart = [](std::uint64_t a, std::uint64_t b) { return __builtin_popcountll(a ^ b); };
    EXPECT_LE(apart(likeness_of(*baseline), likeness_of(*large)), 6);
    Picture mirrored = oriented(*large, 2);
    EXPECT_GT(apart(likeness_of(mirrored), likeness_of(*large)), 12);
    EXPECT_EQ(likeness_of({4, 4, std::vector<std::uint32_t>(16), 4}), 0U) << "too small to tell";
}

TEST(Mail, IsReadAsPeopleReadIt) {
    const std::string text = text_of_mail(sample("eml-parts.eml"), 100'000);
    EXPECT_THAT(text, testing::HasSubstr("Subject: Rings for June"));
    EXPECT_THAT(text, testing::HasSubstr("Please send 200 rings"));
    EXPECT_THAT(text, testing::HasSubstr("[attached: log.csv, text/csv]"));
    EXPECT_THAT(text, testing::HasSubstr("SK7013;Puffin")) << "which is packed as base64";
    EXPECT_LE(text_of_mail(sample("eml-parts.eml"), 50).size(), 50U);
}

TEST(Mail, EncodedWordsAndNumbersBeforeItAreUndone) {
    const auto bytes = test::bytes_of(
        "1234\r\nFrom: =?utf-8?q?Ingrid_=C3=98?= <i@skerrow.example>\r\nSubject: =?utf-8?b?S8O8a2Vu?=\r\n"
        "Content-Type: text/plain; charset=iso-8859-1\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n"
        "Zwei K=FCken\r\n");
    const std::string text = text_of_mail(MemoryMedium(bytes), 10'000);
    EXPECT_THAT(text, testing::HasSubstr("Ingrid Ø"));
    EXPECT_THAT(text, testing::HasSubstr("Subject: Küken"));
    EXPECT_THAT(text, testing::HasSubstr("Zwei Küken"));
}

TEST(Mail, EachMessageOfAMailboxIsRead) {
    const std::string text = text_of_mail(sample("mbox-two.mbox"), 100'000);
    std::size_t messages = 0;
    for (std::size_t at = text.find("From: "); at != std::string::npos; at = text.find("From: ", at + 1)) ++messages;
    EXPECT_EQ(messages, 2U);
}

TEST(Tables, AreCountedWithTheirColumns) {
    const std::string text = tables_of(sample("sqlite-plain.sqlite"));
    EXPECT_THAT(text, testing::HasSubstr("rings: "));
    EXPECT_THAT(text, testing::HasSubstr(" rows\n    number, species, weight"));
    EXPECT_EQ(tables_of(MemoryMedium(test::bytes_of("not a database"))), "");
}

TEST(Tables, WhatIsLostOfADatabaseIsSaid) {
    const auto answer = run_apart(MemoryMedium(cut("sqlite-plain.sqlite", 0.5)), tables_of);
    ASSERT_TRUE(answer);
    EXPECT_TRUE(answer->empty() || answer->find("rings") != std::string::npos) << *answer;
}

}  // namespace
}  // namespace dredger::preview
