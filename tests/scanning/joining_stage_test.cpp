// Torn files on a surface without a file system, put together when all of it was searched.
#include <array>
#include <cmath>
#include <gmock/gmock.h>
#include <map>

#include "scanning/scan_fixture.h"
#include "support/ringing_log.h"

namespace dredger {
namespace {

using Bytes = std::vector<std::byte>;
using Pieces = std::vector<Extent>;

constexpr std::size_t kCluster = 4096;

Bytes noise(unsigned seed, std::size_t size) {
    Bytes bytes = test::noise(size, seed);
    bytes.back() = std::byte{0x55};
    return bytes;
}

// A size of four bytes, then as many as that says: nothing else holds the parts of this together.
void add_part(Bytes& icons, std::string_view type, const Bytes& content) {
    const std::size_t size = content.size() + 8;
    for (const char letter : type) icons.push_back(static_cast<std::byte>(letter));
    for (int shift = 24; shift >= 0; shift -= 8) icons.push_back(static_cast<std::byte>(size >> shift));
    icons.insert(icons.end(), content.begin(), content.end());
}

Bytes icons(const Bytes& large) {
    Bytes parts, file;
    add_part(parts, "ICON", noise(1, 128));
    add_part(parts, "ic10", large);
    add_part(file, "icns", parts);
    return file;
}

// 128 pixels wide; its header tells how long it is, and nothing what its rows are.
Bytes bitmap(unsigned height) {
    Bytes rows = noise(2, std::size_t{128} * 3 * height);
    Bytes file;
    const auto u32 = [&](std::size_t value) {
        for (unsigned shift = 0; shift < 32; shift += 8) file.push_back(static_cast<std::byte>(value >> shift));
    };
    file = {std::byte{'B'}, std::byte{'M'}};
    for (const std::size_t value : {54 + rows.size(), std::size_t{0}, std::size_t{54}, std::size_t{40},
                                    std::size_t{128}, std::size_t{height}, std::size_t{24 << 16 | 1}, std::size_t{0},
                                    rows.size(), std::size_t{2835}, std::size_t{2835}, std::size_t{0}, std::size_t{0}})
        u32(value);
    file.insert(file.end(), rows.begin(), rows.end());
    return file;
}

// Its directory stands behind its rows.
Bytes picture_with_directory_behind(unsigned height) {
    const Bytes rows = noise(6, std::size_t{256} * height);
    Bytes file;
    const auto number = [&](std::size_t value, unsigned bytes) {
        for (unsigned shift = 0; shift < 8 * bytes; shift += 8) file.push_back(static_cast<std::byte>(value >> shift));
    };
    number(0x002A4949, 4);
    number(8 + rows.size(), 4);
    file.insert(file.end(), rows.begin(), rows.end());
    const std::vector<std::array<std::size_t, 2>> entries = {
        {256, 256}, {257, height}, {258, 8}, {259, 1}, {262, 1}, {273, 8}, {277, 1}, {278, height}, {279, rows.size()}};
    number(entries.size(), 2);
    for (const auto& [tag, value] : entries) {
        number(tag, 2);
        number(4, 2);
        number(1, 4);
        number(value, 4);
    }
    number(0, 4);
    return file;
}

// A tone, 16 bits a sample.
Bytes wave(double pitch, std::size_t samples) {
    Bytes file;
    const auto number = [&](std::size_t value, unsigned bytes) {
        for (unsigned shift = 0; shift < 8 * bytes; shift += 8) file.push_back(static_cast<std::byte>(value >> shift));
    };
    const auto text = [&](std::string_view letters) {
        for (const char c : letters) file.push_back(static_cast<std::byte>(c));
    };
    text("RIFF");
    number(36 + 2 * samples, 4);
    text("WAVEfmt ");
    for (const auto& [value, bytes] : std::initializer_list<std::pair<std::size_t, unsigned>>{
             {16, 4}, {1, 2}, {1, 2}, {22050, 4}, {44100, 4}, {2, 2}, {16, 2}})
        number(value, bytes);
    text("data");
    number(2 * samples, 4);
    for (std::size_t n = 0; n < samples; ++n)
        number(static_cast<std::uint16_t>(static_cast<int>(3000 * std::sin(pitch * static_cast<double>(n))) | 1), 2);
    return file;
}

class JoiningStage : public test::ScanFixture {
  protected:
    void SetUp() override { bytes_.resize(kCluster); }

    // Clusters [from, to) of a file, at the next cluster.
    void lay(const std::string& name, const Bytes& content, std::size_t from, std::size_t to) {
        const std::size_t end = std::min(content.size(), to * kCluster);
        append(laid_[name], {bytes_.size(), end - from * kCluster});
        bytes_.insert(bytes_.end(), content.begin() + static_cast<std::ptrdiff_t>(from * kCluster),
                      content.begin() + static_cast<std::ptrdiff_t>(end));
        bytes_.resize((bytes_.size() + kCluster - 1) / kCluster * kCluster);
    }
    void lay(const std::string& name, const Bytes& content) { lay(name, content, 0, content.size() / kCluster + 1); }

    Catalog scanned() {
        bytes_.resize(bytes_.size() + 4 * kCluster);
        test::write_text(folder_ / "card.img", {reinterpret_cast<const char*>(bytes_.data()), bytes_.size()});
        ScanRequest request;
        request.source = folder_ / "card.img";
        request.deep = true;
        EXPECT_TRUE(run(request));
        return Catalog::open(folder_ / "a.dredge").value();
    }

    // By format; each has one find on these media.
    std::map<std::string, Pieces> found() {
        std::map<std::string, Pieces> all;
        EXPECT_TRUE(scanned().each({}, Order{Order::By::path}, true, [&](const Candidate& c) {
            EXPECT_FALSE(all.contains(c.format)) << c.format;
            for (const Extent& piece : c.layout.extents) append(all[c.format], piece);
            return true;
        }));
        return all;
    }

    Bytes bytes_;
    std::map<std::string, Pieces> laid_;
};

TEST_F(JoiningStage, AFileBeginsWithinOneOfWhichOnlyPartsTell) {
    const Bytes log = test::gzipped(test::ringing_log(4, 2000)), icon = icons(noise(3, 60000));
    ASSERT_GT(log.size(), 5 * kCluster);
    lay("icns", icon, 0, 4);
    lay("gz", log, 0, 3);
    lay("icns", icon, 4, 99);
    lay("gz", log, 3, 99);
    EXPECT_EQ(found(), laid_);
}

TEST_F(JoiningStage, APartOfAFileIsNoFileOfItsOwn) {
    Bytes large = noise(3, 4 * kCluster - 8 - 136 - 8);
    const Bytes log = test::gzipped(test::ringing_log(4, 1000));
    large.insert(large.end(), log.begin(), log.end());
    lay("icns", icons(large));
    EXPECT_EQ(found(), laid_);
}

TEST_F(JoiningStage, WhatIsProvenTakesFromAFileThatSeemedWhole) {
    const Bytes log = test::gzipped(test::ringing_log(4, 2000));
    const Bytes picture = bitmap(128);
    lay("gz", log, 0, 3);
    lay("bmp", picture, 0, 5);
    lay("gz", log, 3, 99);
    lay("bmp", picture, 5, 99);
    lay("png", test::samples().at("png-plain.png"));
    EXPECT_EQ(found(), laid_);
}

TEST_F(JoiningStage, ADirectoryAtTheEndTellsHowMuchIsForeign) {
    const Bytes picture = picture_with_directory_behind(120);
    lay("tiff", picture, 0, 3);
    lay("png", test::samples().at("png-plain.png"));
    lay("tiff", picture, 3, 99);
    lay("gz", test::gzipped(test::ringing_log(4, 300)));
    EXPECT_EQ(found(), laid_);
}

// Nothing but a length tells where sound ends; of the pieces that end so, its own goes on as it began.
TEST_F(JoiningStage, OfPiecesThatFitTheOneThatIsAlikeGoesOn) {
    const Bytes tone = wave(0.05, 17 * 1024);
    Bytes stuff = noise(9, tone.size() - 4 * kCluster);
    lay("wav", tone, 0, 4);
    lay("png", test::samples().at("png-plain.png"));
    // Nobody's, as long as what is missing.
    bytes_.insert(bytes_.end(), stuff.begin(), stuff.end());
    bytes_.resize((bytes_.size() + kCluster - 1) / kCluster * kCluster);
    lay("gz", test::gzipped(test::ringing_log(4, 300)));
    lay("wav", tone, 4, 99);
    EXPECT_EQ(found(), laid_);
}

// Nothing begins within it; but something follows where it would end in one piece, and its bytes change before.
TEST_F(JoiningStage, WhatDoesNotEndWithItsSectorGoesOnWhereItsBytesDo) {
    const Bytes tone = wave(0.05, 17 * 1024);
    Bytes stuff = noise(9, tone.size() - 3 * kCluster);
    lay("wav", tone, 0, 4);
    bytes_.insert(bytes_.end(), stuff.begin(), stuff.end());
    bytes_.resize((bytes_.size() + kCluster - 1) / kCluster * kCluster, std::byte{0x33});
    lay("png", test::samples().at("png-plain.png"));
    lay("wav", tone, 4, 99);
    EXPECT_EQ(found(), laid_);
}

// Where most files begin tells how large clusters are, though some things begin anywhere.
TEST_F(JoiningStage, ClustersAreAsLargeAsMostBeginningsSay) {
    const Bytes picture = test::samples().at("png-plain.png"), log = test::gzipped(test::ringing_log(9, 12));
    ASSERT_LT(log.size(), 1024U);
    for (int n = 0; n < 24; ++n) {
        lay("gz", log);
        // Within the slack of some, where an older file began.
        if (n % 6 == 0) std::copy(log.begin(), log.end(), bytes_.end() - 1536);
    }
    lay("png", picture, 0, 3);
    lay("gz", log);
    lay("png", picture, 3, 99);
    std::size_t pictures = 0;
    ASSERT_TRUE(scanned().each({}, Order{Order::By::path}, true, [&](const Candidate& c) {
        if (c.format != "png") return true;
        ++pictures;
        Pieces pieces;
        for (const Extent& piece : c.layout.extents) append(pieces, piece);
        EXPECT_EQ(pieces, laid_["png"]);
        return true;
    }));
    EXPECT_EQ(pictures, 1U);
}

TEST_F(JoiningStage, AFileInPiecesIsComparedByWhatItIsNow) {
    const Bytes log = test::gzipped(test::ringing_log(4, 2000));
    lay("gz", log, 0, 3);
    lay("png", test::samples().at("png-plain.png"));
    lay("gz", log, 3, 99);
    lay("copy", log);
    const auto copies = scanned().copies({}, Order{});
    ASSERT_TRUE(copies);
    EXPECT_EQ(copies->further.size(), 1U);
}

}  // namespace
}  // namespace dredger
