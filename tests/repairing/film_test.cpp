#include <gmock/gmock.h>

#include "repairing/film/aac_frame.h"
#include "repairing/film/mp4/movie.h"
#include "repairing/mended.h"

namespace dredger::test {
namespace {

using namespace std::string_view_literals;
using repairing::Film;
using repairing::FilmTrack;
using repairing::Outcome;
using testing::HasSubstr;

Film film_of(const Bytes& bytes) {
    const MemoryMedium medium(bytes);
    Budget budget;
    Reader reader(medium, budget);
    return repairing::read_film(reader);
}

// What each sample holds, track by track, by the handler.
std::map<std::string, std::vector<Bytes>> samples_of(const Bytes& bytes) {
    std::map<std::string, std::vector<Bytes>> samples;
    for (const FilmTrack& track : film_of(bytes).tracks)
        for (const auto& one : track.samples)
            samples[track.handler].emplace_back(bytes.begin() + static_cast<std::ptrdiff_t>(one.at),
                                                bytes.begin() + static_cast<std::ptrdiff_t>(one.end()));
    return samples;
}

class Films : public testing::TestWithParam<const char*> {};
INSTANTIATE_TEST_SUITE_P(OfEachWriter, Films,
                         testing::Values("mp4-last.mp4", "mp4-first.mp4", "mov-plain.mov", "m4a-plain.m4a",
                                         "3gp-plain.3gp"),
                         [](const auto& writer) {
                             std::string name = writer.param;
                             std::replace(name.begin(), name.end(), '-', '_');
                             return name.substr(0, name.find('.'));
                         });

TEST_P(Films, ThatAreWholeStayWhatTheyAre) {
    const MendedBytes mended = mend(GetParam(), sample(GetParam()));
    EXPECT_EQ(mended.outcome(), Outcome::whole) << mended.said();
    EXPECT_EQ(mended.result, sample(GetParam()));
}

TEST_P(Films, WithoutAnIndexGetOneWithAReference) {
    const Bytes& whole = sample(GetParam());
    const std::size_t index = place_of(whole, "moov") - 4;
    const std::size_t data = place_of(whole, "mdat");
    const Bytes damaged = index > data ? cut(whole, index) : zeroed(whole, index, data - 4 - index);
    const MendedBytes alone = mend(GetParam(), damaged);
    EXPECT_EQ(alone.outcome(), Outcome::wants_reference) << alone.said();
    EXPECT_THAT(alone.said(), HasSubstr("another film of the same camera"));
    const MendedBytes mended = mend(GetParam(), damaged, {GetParam()});
    EXPECT_EQ(mended.outcome(), Outcome::mended) << mended.said();
    EXPECT_EQ(samples_of(mended.result), samples_of(whole));
}

TEST_P(Films, ThatEndTooEarlyKeepTheSamplesThatStand) {
    const Bytes& whole = sample(GetParam());
    const std::size_t index = place_of(whole, "moov");
    const std::size_t data = place_of(whole, "mdat");
    const std::size_t end = index > data ? index - 4 : whole.size();
    const MendedBytes mended = mend(GetParam(), cut(whole, data + (end - data) * 7 / 10), {GetParam()});
    ASSERT_FALSE(mended.result.empty()) << mended.said();
    const auto all = samples_of(whole);
    for (const auto& [handler, samples] : samples_of(mended.result)) {
        const auto& original = all.at(handler);
        ASSERT_LE(samples.size(), original.size());
        EXPECT_GE(samples.size() * 2, original.size()) << handler;
        for (std::size_t i = 0; i + 1 < samples.size(); ++i) EXPECT_EQ(samples[i], original[i]) << handler << " " << i;
        // Where the codec has no lengths, the last one may be cut.
        EXPECT_TRUE(
            std::ranges::equal(samples.back(), std::span(original[samples.size() - 1]).first(samples.back().size())));
    }
}

TEST_P(Films, WhoseDataSaysAnyLengthAreMended) {
    const Bytes& whole = sample(GetParam());
    const std::size_t data = place_of(whole, "mdat");
    if (place_of(whole, "moov") > data) {
        const MendedBytes mended =
            mend(GetParam(), cut(zeroed(whole, data - 4, 4), place_of(whole, "moov") - 4), {GetParam()});
        EXPECT_EQ(samples_of(mended.result), samples_of(whole)) << mended.said();
    } else {
        const MendedBytes mended = mend(GetParam(), zeroed(whole, data - 4, 4));
        EXPECT_EQ(samples_of(mended.result), samples_of(whole)) << mended.said();
    }
}

TEST(Films, InFragmentsBecomeOne) {
    const Bytes& whole = sample("mp4-fragments.mp4");
    const MendedBytes mended = mend("boat.mp4", cut(whole, whole.size() * 7 / 10));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_FALSE(film_of(mended.result).is_fragmented);
    const auto all = samples_of(whole);
    for (const auto& [handler, samples] : samples_of(mended.result))
        for (std::size_t i = 0; i < samples.size(); ++i) EXPECT_EQ(samples[i], all.at(handler)[i]);
}

TEST(Films, OrderOfShowingIsThatOfTheCodec) {
    const Bytes& whole = sample("mp4-last.mp4");
    const MendedBytes mended = mend("boat.mp4", cut(whole, place_of(whole, "moov") - 4), {"mp4-last.mp4"});
    const auto shown = [](const Bytes& bytes) {
        std::vector<std::int64_t> times;
        for (const FilmTrack& track : film_of(bytes).tracks) {
            if (!track.is_video()) continue;
            std::int64_t time = 0;
            for (const auto& one : track.samples) {
                times.push_back(time + one.shift);
                time += one.duration;
            }
        }
        const std::int64_t first = times.empty() ? 0 : *std::min_element(times.begin(), times.end());
        for (std::int64_t& time : times) time -= first;
        return times;
    };
    EXPECT_EQ(shown(mended.result), shown(whole));
}

TEST(AacFrames, AreAsLongAsTheTablesSay) {
    for (const char* name : {"m4a-plain.m4a", "mp4-last.mp4", "mov-plain.mov"}) {
        const Bytes& bytes = sample(name);
        std::size_t frames = 0;
        for (const FilmTrack& track : film_of(bytes).tracks) {
            if (track.codec != "mp4a") continue;
            for (const auto& one : track.samples) {
                // With what follows it: it is the frame itself that tells where it ends.
                const auto* start = reinterpret_cast<const std::uint8_t*>(bytes.data()) + one.at;
                const std::span<const std::uint8_t> rest(start, bytes.size() - one.at);
                EXPECT_EQ(repairing::aac_frame_length(rest, {4, 0}) == one.size ||
                              repairing::aac_frame_length(rest, {3, 0}) == one.size ||
                              repairing::aac_frame_length(rest, {7, 0}) == one.size ||
                              repairing::aac_frame_length(rest, {8, 0}) == one.size,
                          true)
                    << name << " at " << one.at;
                ++frames;
            }
        }
        EXPECT_GT(frames, 0U) << name;
    }
}

TEST(AacFrames, NoiseIsNone) {
    const Bytes noise = with_noise(Bytes(4096), 0, 4096);
    std::size_t found = 0;
    for (std::size_t at = 0; at + 2048 < noise.size(); ++at)
        found += repairing::aac_frame_length(
                     {reinterpret_cast<const std::uint8_t*>(noise.data()) + at, noise.size() - at}, {4, 2}) > 0;
    EXPECT_LT(found, 40U);
}

std::size_t count_of(const Bytes& bytes, std::string_view wanted, std::size_t from, std::size_t to) {
    std::size_t count = 0;
    for (std::size_t at = place_of(bytes, wanted, from); at < to; at = place_of(bytes, wanted, at + 1)) ++count;
    return count;
}

TEST(Avi, GetsItsIndexAndSizesAnew) {
    const Bytes& whole = sample("avi-plain.avi");
    const std::size_t index = place_of(whole, "idx1");
    const std::size_t frames = count_of(whole, "00dc", place_of(whole, "movi"), index);
    for (const Bytes& damaged :
         {cut(whole, index), zeroed(whole, 4, 4), with_noise_inserted(whole, place_of(whole, "00dc"), 500)}) {
        const MendedBytes mended = mend("boat.avi", damaged);
        EXPECT_EQ(mended.done.kept, frames) << mended.said();
        EXPECT_TRUE(measured("avi", mended.result).is_whole());
    }
    EXPECT_EQ(mend("boat.avi", whole).outcome(), Outcome::whole);
}

TEST(Avi, TakesALostHeaderFromAReference) {
    const Bytes& whole = sample("avi-plain.avi");
    const Bytes damaged = zeroed(whole, 0, 300);
    EXPECT_EQ(mend("boat.avi", damaged).outcome(), Outcome::wants_reference);
    const MendedBytes mended = mend("boat.avi", damaged, {"avi-plain.avi"});
    EXPECT_TRUE(measured("avi", mended.result).is_whole()) << mended.said();
}

TEST(Matroska, KeepsWhatStandsOfDamagedClusters) {
    const Bytes& whole = sample("mkv-plain.mkv");
    EXPECT_EQ(mend("boat.mkv", whole).outcome(), Outcome::whole);
    const MendedBytes before = mend("boat.mkv", whole);
    const MendedBytes mended = mend("boat.mkv", with_noise_inserted(whole, whole.size() / 2, 1500));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_TRUE(measured("mkv", mended.result).is_whole()) << mended.said();
    EXPECT_GT(mended.done.kept * 10, before.done.kept * 8);
    const MendedBytes headless = mend("boat.mkv", zeroed(whole, 0, 40));
    EXPECT_EQ(headless.done.kept, before.done.kept);
}

TEST(Frames, WhatLiesBetweenThemIsLeftOut) {
    for (const char* name : {"mp3-plain.mp3", "aac-plain.aac", "ac3-call.ac3", "flac-plain.flac", "ts-plain.ts",
                             "mts-plain.mts", "mpg-plain.mpg"}) {
        const Bytes& whole = sample(name);
        const MendedBytes before = mend(name, whole);
        EXPECT_EQ(before.outcome(), Outcome::whole) << name << ": " << before.said();
        const MendedBytes mended = mend(name, with_noise_inserted(whole, whole.size() / 2, 1500));
        EXPECT_EQ(mended.outcome(), Outcome::partly) << name;
        EXPECT_GE(mended.done.kept + 2, before.done.kept) << name << ": " << mended.said();
        EXPECT_LE(mended.result.size(), whole.size()) << name;
    }
}

TEST(Ogg, PagesThatStandAreCountedAnew) {
    for (const char* name : {"ogg-plain.ogg", "opus-plain.opus"}) {
        const Bytes& whole = sample(name);
        EXPECT_EQ(mend(name, whole).outcome(), Outcome::whole) << name;
        const MendedBytes mended = mend(name, with_noise_inserted(whole, 0, 777));
        EXPECT_EQ(mended.outcome(), Outcome::partly);
        EXPECT_EQ(mended.result, whole) << name;
        const MendedBytes headless = mend(name, zeroed(whole, 0, 8));
        EXPECT_EQ(headless.outcome(), Outcome::wants_reference) << name;
    }
}

TEST(Wav, SizesAndALostHeader) {
    const Bytes& whole = sample("wav-plain.wav");
    EXPECT_EQ(mend("call.wav", whole).outcome(), Outcome::whole);
    const MendedBytes sized = mend("call.wav", zeroed(zeroed(whole, 4, 4), place_of(whole, "data") + 4, 4));
    EXPECT_TRUE(measured("wav", sized.result).is_whole()) << sized.said();
    EXPECT_EQ(mend("call.wav", zeroed(whole, 0, 44)).outcome(), Outcome::wants_reference);
    const MendedBytes mended = mend("call.wav", zeroed(whole, 0, 40), {"wav-plain.wav"});
    EXPECT_TRUE(measured("wav", mended.result).is_whole()) << mended.said();
}

}  // namespace
}  // namespace dredger::test
