// Content that was made to hold up whoever measures it: what its loops may cost is bounded by the bytes that exist.
#include <gmock/gmock.h>

#include "formats/format.h"
#include "support/support.h"

namespace dredger {
namespace {

std::string be32(std::uint32_t value) {
    std::string bytes;
    for (int shift = 24; shift >= 0; shift -= 8) bytes += static_cast<char>(value >> shift & 0xFF);
    return bytes;
}

std::string box(const std::string& name, const std::string& content) {
    return be32(static_cast<std::uint32_t>(content.size() + 8)) + name + content;
}

Measured measured(const char* format, const std::string& content) {
    const test::MemoryMedium medium(test::bytes_of(content));
    Budget budget;
    Reader reader(medium, budget);
    return measure(*format_named(format), reader);
}

TEST(Hostile, APdfTableWithoutColumnsHasNoRows) {
    const std::string table =
        "%PDF-1.5\n%\xE2\xE3\xCF\xD3\n7 0 obj\n<< /Type /XRef /W [0 0 0] /Size 18446744073709551615 /Length 40 >>\n"
        "stream\n" +
        std::string(40, '\1') + "\nendstream\nendobj\nstartxref\n15\n%%EOF\n";
    EXPECT_FALSE(measured("pdf", table).is_whole());
}

TEST(Hostile, AFilmWithoutSamplesInItsChunksEnds) {
    const std::string table = box("stsd", be32(0) + be32(1) + box("sowt", std::string(28, '\0'))) +
                              box("stsz", be32(0) + be32(2) + be32(8 << 20)) +
                              box("stsc", be32(0) + be32(1) + be32(1) + be32(0) + be32(1)) +
                              box("stco", be32(0) + be32(0xFFFFFFFF) + be32(40));
    const std::string film = box("ftyp", "isom" + be32(0) + "isom") + box("mdat", std::string(64, 'n')) +
                             box("moov", box("trak", box("mdia", box("minf", box("stbl", table)))));
    const Measured found = measured("mp4", film);
    EXPECT_TRUE(!found.is_whole() || found.proof < Proof::checksums);
}

TEST(Hostile, ABitOfAPictureThatStandsForManyBlocksCostsLittle) {
    // A progressive picture of 65,535 by 20,000 pixels, and scans of a band that is empty throughout.
    std::string picture = "\xFF\xD8";
    picture += std::string("\xFF\xC2\0\x0B\x08", 5) + "\x4E\x20\xFF\xFF" + std::string("\1\1\x11\0", 4);
    std::string table("\xFF\xC4\0\x14\x10", 5);
    table += std::string("\1", 1) + std::string(15, '\0') + "\xE0";  // one code: the band ends for 2^14 blocks and more
    picture += table;
    const std::string scan = std::string("\xFF\xDA\0\x08\1\1\0\1\x3F\0", 10) + std::string(900, '\x3F') + "\xFF\xD9";
    for (unsigned i = 0; i < 4000; ++i) picture += scan.substr(0, scan.size() - 2);
    const Measured found = measured("jpeg", picture + "\xFF\xD9");
    EXPECT_NE(found.end, Measured::End::whole);
}

TEST(Hostile, FoldersOfACabinetDoNotShareTheirBlocks) {
    std::string cabinet = "MSCF" + std::string(32, '\0');
    const auto put = [&](std::size_t at, std::uint64_t value, int bytes) {
        for (int i = 0; i < bytes; ++i) cabinet[at + static_cast<std::size_t>(i)] = static_cast<char>(value >> (8 * i));
    };
    constexpr unsigned kFolders = 2000, kBlocks = 2000;
    const std::size_t blocks_at = 36 + 8 * kFolders, size = blocks_at + 9 * kBlocks;
    cabinet.resize(size);
    put(8, size, 4), put(16, 36, 4), put(24, 0x0103, 2), put(26, kFolders, 2);
    for (unsigned f = 0; f < kFolders; ++f) put(36 + 8 * f, blocks_at, 4), put(36 + 8 * f + 4, kBlocks, 2);
    for (unsigned b = 0; b < kBlocks; ++b) put(blocks_at + 9 * b + 4, 1, 2);
    EXPECT_FALSE(measured("cab", cabinet).is_whole());
}

TEST(Hostile, AStreamThatUnpacksWithoutEndIsGivenUp) {
    // Blocks of zstd that each stand for 128 KiB of one byte, four bytes each.
    std::string bomb = std::string("\x28\xB5\x2F\xFD\x00\x58", 6);
    for (unsigned i = 0; i < 1'000'000; ++i) bomb += std::string("\x02\x00\x10", 3) + 'n';
    EXPECT_EQ(measured("zst", bomb).end, Measured::End::gave_up);
}

}  // namespace
}  // namespace dredger
