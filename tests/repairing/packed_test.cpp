// Tar archives and packed streams, by other writers, damaged and mended.
#include <cstdlib>
#include <gmock/gmock.h>

#include "base/stream_decoder.h"
#include "formats/part.h"
#include "formats/tar_header.h"
#include "repairing/mended.h"

namespace dredger::test {
namespace {

using namespace std::string_literals;
using repairing::Outcome;
using testing::HasSubstr;

// What comes out of all streams that follow each other; of no packing the bytes themselves.
Bytes unpacked(const std::string& ending, const Bytes& bytes) {
    static const std::map<std::string, Packing> kPackings = {
        {".gz", Packing::gzip}, {".bz2", Packing::bzip2}, {".xz", Packing::xz}, {".zst", Packing::zstd}};
    if (ending.empty()) return bytes;
    Bytes plain;
    for (std::span<const std::byte> rest = bytes; !rest.empty();) {
        StreamDecoder decoder(kPackings.at(ending));
        std::size_t used = 0;
        const auto state = decoder.feed(
            rest, used, [&](std::span<const std::byte> out) { plain.insert(plain.end(), out.begin(), out.end()); });
        EXPECT_EQ(state, StreamDecoder::State::ended);
        if (state != StreamDecoder::State::ended) break;
        rest = rest.subspan(used);
    }
    return plain;
}

// Members of a tar archive, by name.
std::map<std::string, std::string> members_of(const Bytes& tar) {
    const MemoryMedium medium(tar);
    Budget budget;
    Reader reader(medium, budget);
    std::map<std::string, std::string> members;
    std::string long_name;
    for (std::uint64_t at = 0; const auto header = formats::tar_header_at(reader, at);) {
        const std::string content = reader.text(at + 512, static_cast<std::size_t>(header->size));
        if (header->type == 'L')
            long_name = content.c_str();
        else
            members[long_name.empty() ? header->name : std::exchange(long_name, {})] = content;
        at += 512 + header->room();
    }
    return members;
}

// How many members of an archive are those of the other one.
std::size_t right_members(const Bytes& tar, const Bytes& original) {
    const auto whole = members_of(original);
    std::size_t right = 0;
    for (const auto& [name, content] : members_of(tar)) {
        const auto found = whole.find(name);
        right += found != whole.end() && found->second == content ? 1 : 0;
    }
    return right;
}

class Packed : public testing::TestWithParam<const char*> {
  protected:
    Packed() {
        const std::string command = "python3 " DREDGER_PACK_LOGS " " + folder_.path().string();
        EXPECT_EQ(std::system(command.c_str()), 0);
    }
    Bytes made(const std::string& name) const {
        const std::string text = read_text(folder_ / name);
        const auto bytes = std::as_bytes(std::span(text));
        return {bytes.begin(), bytes.end()};
    }
    std::string tar_name() const { return std::string("logs.tar") + GetParam(); }
    std::string log_name() const { return std::string("log.csv") + GetParam(); }

    TempFolder folder_;
};
INSTANTIATE_TEST_SUITE_P(In, Packed, testing::Values("", ".gz", ".bz2", ".xz", ".zst"), [](const auto& packing) {
    const std::string name = packing.param;
    return name.empty() ? "tar" : name.substr(1);
});

TEST_P(Packed, WhatIsWholeStaysWhatItIs) {
    const Bytes whole = made(tar_name());
    const MendedBytes mended = mend(tar_name(), whole);
    EXPECT_EQ(mended.outcome(), Outcome::whole) << mended.said();
    EXPECT_EQ(mended.result, whole);
}

// Zstandard packs 128 KiB at a time, bzip2 here 100,000 bytes: what comes out ends where one of these does.
TEST_P(Packed, MembersInFrontOfACutAreKept) {
    const Bytes whole = made(tar_name());
    const MendedBytes mended = mend(tar_name(), cut(whole, whole.size() * 2 / 3));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_THAT(mended.said(), HasSubstr("are there"));
    const std::size_t right = right_members(unpacked(GetParam(), mended.result), made("logs.tar"));
    EXPECT_EQ(right, mended.done.kept) << mended.said();
    EXPECT_GE(right, 10U) << mended.said();
}

TEST_P(Packed, AHoleCostsWhatLiesInIt) {
    const Bytes whole = made(tar_name());
    const std::size_t at = whole.size() / 2;
    const MendedBytes mended = mend_with(tar_name(), whole, {}, {{at, 2048}});
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    const std::size_t right = right_members(unpacked(GetParam(), mended.result), made("logs.tar"));
    EXPECT_EQ(right, mended.done.kept) << mended.said();
    EXPECT_GE(right, 10U) << mended.said();
}

class Tar : public Packed {};
INSTANTIATE_TEST_SUITE_P(In, Tar, testing::Values(""));

TEST_P(Tar, BehindADamagedHeaderTheNextMemberIsFound) {
    const Bytes whole = made("logs.tar");
    const std::size_t header = place_of(whole, "ringing logs/a long name 20.csv");
    const MendedBytes mended = mend("logs.tar", with_noise(whole, header, 200));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_THAT(mended.said(), HasSubstr("belong to no member"));
    EXPECT_EQ(right_members(mended.result, whole), 39U) << mended.said();
    EXPECT_GE(39U, mended.done.kept);
}

TEST_P(Tar, MissingClustersCostTheMembersThatTheyHeld) {
    const Bytes whole = made("logs.tar");
    const MendedBytes mended = mend("logs.tar", without(whole, whole.size() / 2, 4096));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_GE(right_members(mended.result, whole), 38U) << mended.said();
    EXPECT_GE(right_members(mended.result, whole), mended.done.kept) << mended.said();
}

class PackedStreams : public Packed {};
INSTANTIATE_TEST_SUITE_P(In, PackedStreams, testing::Values(".gz", ".bz2", ".xz", ".zst"),
                         [](const auto& packing) { return std::string(packing.param).substr(1); });

TEST_P(PackedStreams, NothingInFrontOfUnknownDamageIsLostAndNoneBehindItPassedOffAsRight) {
    const Bytes whole = made(tar_name());
    const MendedBytes mended = mend(tar_name(), with_noise(whole, whole.size() / 2, 1500));
    EXPECT_EQ(mended.outcome(), Outcome::partly) << mended.said();
    const std::size_t right = right_members(unpacked(GetParam(), mended.result), made("logs.tar"));
    EXPECT_GE(right + 1, mended.done.kept) << mended.said();
    EXPECT_GE(right, 10U) << mended.said();
}

TEST_P(PackedStreams, TheStartOfACutLogIsKept) {
    const Bytes whole = made(log_name());
    const MendedBytes mended = mend(log_name(), cut(whole, whole.size() * 2 / 3));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    const Bytes kept = unpacked(GetParam(), mended.result);
    const Bytes log = made("log.csv");
    ASSERT_GT(kept.size() * 5, log.size() * 2) << mended.said();
    EXPECT_TRUE(std::equal(kept.begin(), kept.end(), log.begin()));
}

// How Zstandard packed stands nowhere else.
class HeadlessStreams : public Packed {};
INSTANTIATE_TEST_SUITE_P(In, HeadlessStreams, testing::Values(".gz", ".bz2", ".xz"),
                         [](const auto& packing) { return std::string(packing.param).substr(1); });

TEST_P(HeadlessStreams, AreWholeAllTheSame) {
    const Bytes whole = made(log_name());
    const MendedBytes mended = mend(log_name(), zeroed(whole, 0, 8));
    EXPECT_EQ(mended.outcome(), Outcome::mended) << mended.said();
    EXPECT_EQ(unpacked(GetParam(), mended.result), made("log.csv"));
}

TEST_P(PackedStreams, NothingCanBeHadOfNoise) {
    const MendedBytes mended = mend(log_name(), with_noise(made(log_name()), 0, made(log_name()).size()));
    EXPECT_EQ(mended.outcome(), Outcome::beyond);
    EXPECT_TRUE(mended.result.empty());
}

class PackedInMembers : public Packed {};
INSTANTIATE_TEST_SUITE_P(In, PackedInMembers, testing::Values(".gz"));

TEST_P(PackedInMembers, ThoseBehindADamagedOneAreKept) {
    const Bytes whole = made("members.csv.gz");
    const MendedBytes mended = mend("members.csv.gz", zeroed(whole, whole.size() / 4, 1024));
    EXPECT_EQ(mended.outcome(), Outcome::partly);
    EXPECT_EQ(mended.done.kept, 1U);
    EXPECT_EQ(mended.done.of, 2U);
    const Bytes kept = unpacked(".gz", mended.result);
    const Bytes log = made("log.csv");
    const std::size_t half = log.size() / 2;
    ASSERT_GT(kept.size(), half);
    EXPECT_TRUE(std::equal(kept.end() - static_cast<std::ptrdiff_t>(log.size() - half), kept.end(),
                           log.begin() + static_cast<std::ptrdiff_t>(half)));
}

class Deflated : public Packed {};
INSTANTIATE_TEST_SUITE_P(In, Deflated, testing::Values(".zip"));

TEST_P(Deflated, TextBehindDamageIsTakenUpAgain) {
    const Bytes whole = made("logs.zip");
    const std::string log = read_text(folder_ / "log.csv");
    const MendedBytes mended = mend("logs.zip", zeroed(whole, whole.size() / 2, 1024));
    EXPECT_EQ(mended.outcome(), Outcome::partly) << mended.said();
    EXPECT_THAT(mended.said(), HasSubstr("behind the damage in log.csv"));
    const MemoryMedium medium(mended.result);
    Budget budget;
    Reader reader(medium, budget);
    std::map<std::string, std::string> entries;
    (void)format_named("zip")->take_apart(reader, [&](Part&& part) {
        Budget for_bytes;
        Reader content(medium, for_bytes);
        entries[part.name] = dredger::bytes_of(content, part, 4 << 20);
        return true;
    });
    EXPECT_EQ(entries.at("log.csv"), log.substr(0, entries.at("log.csv").size()));
    EXPECT_EQ(entries.at("plan.txt").size(), 333U);
    // What is known stands where it should, counted from the end.
    std::string rest = entries.at("log (behind the damage).csv");
    std::size_t known = 0, wrong = 0, back = 0;
    constexpr std::string_view kUnknown = "\xEF\xBF\xBD";
    while (!rest.empty()) {
        ++back;
        if (std::string_view(rest).ends_with(kUnknown)) {
            rest.resize(rest.size() - kUnknown.size());
            continue;
        }
        ++known;
        wrong += rest.back() != log[log.size() - back] ? 1 : 0;
        rest.pop_back();
    }
    EXPECT_EQ(wrong, 0U);
    EXPECT_GT(known, 10'000U);
}

TEST(Rar, BlocksWhoseHeadersStandAreKept) {
    const Bytes& whole = sample("rar-several.rar");
    EXPECT_EQ(mend("logs.rar", whole).outcome(), Outcome::whole);
    EXPECT_EQ(mend("logs.rar", whole).done.kept, 4U);
    const MendedBytes short_one = mend("logs.rar", cut(whole, whole.size() * 2 / 3));
    EXPECT_EQ(short_one.outcome(), Outcome::partly);
    EXPECT_EQ(short_one.done.kept, 2U);
    EXPECT_THAT(short_one.said(), HasSubstr("test3.bin is damaged"));
    EXPECT_TRUE(measured("rar", short_one.result).is_whole());
    const MendedBytes headless = mend("logs.rar", zeroed(whole, 0, 30));
    EXPECT_EQ(headless.done.kept, 3U) << headless.said();
    EXPECT_TRUE(measured("rar", headless.result).is_whole());
}

TEST(SevenZip, ALostStartIsMadeAnewFromTheDirectory) {
    const Bytes& whole = sample("7z-plain.7z");
    EXPECT_EQ(mend("logs.7z", whole).outcome(), Outcome::whole);
    const MendedBytes mended = mend("logs.7z", zeroed(whole, 0, 32));
    EXPECT_EQ(mended.outcome(), Outcome::mended) << mended.said();
    EXPECT_EQ(mended.result, whole);
}

TEST(SevenZip, WithoutADirectoryWhatIsPackedIsToldApartByContent) {
    const Bytes& whole = sample("7z-plain.7z");
    const MendedBytes mended = mend("logs.7z", cut(whole, place_of(whole, "\1\4\6"s)));
    EXPECT_EQ(mended.outcome(), Outcome::partly) << mended.said();
    EXPECT_THAT(mended.said(), HasSubstr("its directory is lost"));
    ASSERT_EQ(mended.beside.size(), 1U);
    EXPECT_EQ(mended.beside.begin()->second.size(), 1036U);
    EXPECT_EQ(mend("logs.7z", zeroed(whole, 0, whole.size())).outcome(), Outcome::beyond);
}

}  // namespace
}  // namespace dredger::test
