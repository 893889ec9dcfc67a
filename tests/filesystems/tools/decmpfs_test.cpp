// Files that Apple's file systems keep packed, laid out by hand after decmpfs.h; what is packed comes from zlib and
// from the reference encoder of LZFSE.
#include "filesystems/tools/decmpfs.h"

#include <cstring>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <openssl/evp.h>
#include <zlib.h>

#include "base/digest.h"
#include "media/content.h"
#include "support/support.h"

namespace dredger {
namespace {

using testing::Contains;
using testing::HasSubstr;

constexpr std::size_t kBlock = 64 << 10;

std::string log_of(std::size_t size) {
    std::string text;
    for (int n = 0; text.size() < size; ++n) text += "ring SK" + std::to_string(441'200 + n * 37 % 9'001) + " puffin\n";
    text.resize(size);
    return text;
}

std::string packed_zlib(std::string_view text) {
    std::string packed(compressBound(static_cast<uLong>(text.size())), '\0');
    auto size = static_cast<uLongf>(packed.size());
    compress2(reinterpret_cast<Bytef*>(packed.data()), &size, reinterpret_cast<const Bytef*>(text.data()),
              static_cast<uLong>(text.size()), 6);
    packed.resize(size);
    return packed;
}

std::string number32(std::uint32_t value, bool is_big = false) {
    std::string bytes(4, '\0');
    for (unsigned i = 0; i < 4; ++i) bytes[i] = static_cast<char>(value >> 8 * (is_big ? 3 - i : i));
    return bytes;
}

std::string header(std::uint32_t type, std::uint64_t size) {
    return "fpmc" + number32(type) + number32(static_cast<std::uint32_t>(size)) + number32(0);
}

// A resource of packed blocks: where it lies, how long it is, then the places and lengths of the blocks.
std::string resource_of(const std::vector<std::string>& blocks) {
    std::string table = number32(static_cast<std::uint32_t>(blocks.size())), data;
    for (const std::string& block : blocks) {
        const std::size_t at = 4 + blocks.size() * 8 + data.size();
        table += number32(static_cast<std::uint32_t>(at)) + number32(static_cast<std::uint32_t>(block.size()));
        data += block;
    }
    std::string fork = number32(0x100, true) + number32(0, true) + number32(0, true) + number32(0, true);
    fork.resize(0x100, '\0');
    return fork + number32(static_cast<std::uint32_t>(table.size() + data.size()), true) + table + data;
}

// Places only, the first of which tells where the table ends.
std::string table_of(const std::vector<std::string>& blocks) {
    std::uint32_t at = static_cast<std::uint32_t>((blocks.size() + 1) * 4);
    std::string table = number32(at), data;
    for (const std::string& block : blocks) {
        at += static_cast<std::uint32_t>(block.size());
        table += number32(at);
        data += block;
    }
    return table + data;
}

class Decmpfs : public testing::Test {
  protected:
    // Lays the two on a medium, the resource fork in pieces of `piece` bytes, turned round.
    Record lay(const std::string& attribute, const std::string& resource = {}, std::size_t piece = 0) {
        std::string bytes(512, 'x');
        const Extent place{bytes.size(), attribute.size()};
        bytes += attribute;
        std::vector<Extent> fork;
        if (piece == 0) piece = resource.size();
        for (std::size_t at = 0; at < resource.size(); at += piece)
            fork.push_back({0, std::min(piece, resource.size() - at)});
        std::size_t from = resource.size();
        for (auto one = fork.rbegin(); one != fork.rend(); ++one) {
            from -= static_cast<std::size_t>(one->length);
            one->offset = bytes.size();
            bytes += resource.substr(from, static_cast<std::size_t>(one->length));
        }
        medium_ = std::make_shared<test::MemoryMedium>(test::bytes_of(bytes));
        Record record;
        record.name = "Log.txt";
        lay_compressed(medium_, {place}, fork, record);
        return record;
    }
    std::string content_of(const Record& record) const {
        const auto content = open_content(medium_, record.layout, record.size);
        std::vector<Extent> bad;
        std::vector<std::byte> bytes(static_cast<std::size_t>(content->size()));
        EXPECT_TRUE(content->read(0, bytes, &bad) && bad.empty());
        return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
    }

    MediumPtr medium_;
};

TEST_F(Decmpfs, SmallFilesStandInTheAttribute) {
    const std::string text = log_of(3'000);
    const Record record = lay(header(3, text.size()) + packed_zlib(text));
    EXPECT_EQ(content_of(record), text);
    EXPECT_TRUE(record.layout.within_records);
    EXPECT_EQ(record.trust, LayoutTrust::exact);
}

TEST_F(Decmpfs, WhatPackingDoesNotMakeSmallerStandsAsItIs) {
    EXPECT_EQ(content_of(lay(header(3, 5) + "\xFFterns")), "terns");
    EXPECT_EQ(content_of(lay(header(9, 5) + "\xCCterns")), "terns");
    EXPECT_EQ(content_of(lay(header(7, 5) + "\x06terns")), "terns");
}

TEST_F(Decmpfs, LargerFilesStandInBlocksOfTheResourceFork) {
    const std::string text = log_of(3 * kBlock + 777);
    std::vector<std::string> blocks;
    for (std::size_t at = 0; at < text.size(); at += kBlock) blocks.push_back(packed_zlib(text.substr(at, kBlock)));
    blocks[1] = "\x0F" + text.substr(kBlock, kBlock);
    for (const std::size_t piece : {std::size_t{0}, std::size_t{4'096}, std::size_t{20'000}}) {
        const Record record = lay(header(4, text.size()), resource_of(blocks), piece);
        EXPECT_EQ(content_of(record), text) << piece;
        EXPECT_EQ(record.trust, LayoutTrust::exact);
        EXPECT_FALSE(record.layout.within_records);
    }
}

TEST_F(Decmpfs, LzvnAndLzfseAreUnpacked) {
    const auto all = test::truth_of("lzfse");
    const auto packed = [&](const char* name) {
        const std::string text = all[name]["packed"];
        std::string bytes(text.size() / 4 * 3, '\0');
        EVP_DecodeBlock(reinterpret_cast<unsigned char*>(bytes.data()),
                        reinterpret_cast<const unsigned char*>(text.data()), static_cast<int>(text.size()));
        return bytes;
    };
    const auto sum_of = [](const std::string& text) {
        Sha256 digest;
        digest.add(test::bytes_of(text));
        return digest.finish();
    };
    constexpr std::size_t kFrame = 12;  // around LZVN in a stream of LZFSE
    const Record vn = lay(header(7, 2'000) + packed("short").substr(kFrame));
    EXPECT_EQ(sum_of(content_of(vn)), all["short"]["sha256"]);
    const Record fse = lay(header(12, 60'000), table_of({packed("log")}));
    EXPECT_EQ(sum_of(content_of(fse)), all["log"]["sha256"]);
}

TEST_F(Decmpfs, WhatIsNotTheresIsSaid) {
    const std::string text = log_of(2 * kBlock);
    const std::vector<std::string> blocks = {packed_zlib(text.substr(0, kBlock))};
    const Record half = lay(header(4, text.size()), resource_of(blocks));
    EXPECT_EQ(half.trust, LayoutTrust::damaged);
    EXPECT_THAT(half.notes, Contains(HasSubstr("a part of its packed content is not told")));
    EXPECT_THAT(lay(header(99, 10) + "abc").notes, Contains(HasSubstr("in a way that is not known")));
    EXPECT_THAT(lay("nonsense of an attribute").notes, Contains(HasSubstr("makes no sense")));
}

}  // namespace
}  // namespace dredger
