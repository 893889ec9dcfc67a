// Formats that no sample stands for, laid out here as their specifications say: where each ends, whatever follows, and
// that damage shows.
#include <gmock/gmock.h>
#include <random>

#include "base/crc32c.h"
#include "base/digest.h"
#include "formats/format.h"
#include "support/support.h"

namespace dredger {
namespace {

using namespace std::string_view_literals;

using test::MemoryMedium;
using End = Measured::End;

// Bytes written one after the other.
class Layout {
  public:
    Layout& text(std::string_view bytes) {
        bytes_ += bytes;
        return *this;
    }
    Layout& little(std::uint64_t value, int size) {
        for (int i = 0; i < size; ++i) bytes_ += static_cast<char>(value >> (8 * i) & 0xFF);
        return *this;
    }
    Layout& big(std::uint64_t value, int size) {
        for (int i = size - 1; i >= 0; --i) bytes_ += static_cast<char>(value >> (8 * i) & 0xFF);
        return *this;
    }
    Layout& fill(std::size_t count, char with = '\0') {
        bytes_.append(count, with);
        return *this;
    }
    Layout& up_to(std::size_t size, char with = '\0') { return fill(size - bytes_.size(), with); }
    Layout& put(std::size_t at, std::uint64_t value, int size) {
        for (int i = 0; i < size; ++i)
            bytes_[at + static_cast<std::size_t>(i)] = static_cast<char>(value >> (8 * i) & 0xFF);
        return *this;
    }
    const std::string& bytes() const { return bytes_; }
    std::size_t size() const { return bytes_.size(); }

  private:
    std::string bytes_;
};

std::uint32_t sum_of(std::string_view bytes) { return crc32(std::as_bytes(std::span(bytes)), 0); }

Measured measured(std::string_view format, std::string bytes) {
    const MemoryMedium medium(test::bytes_of(bytes));
    Budget budget;
    Reader reader(medium, budget);
    return format_named(format)->measure(reader);
}

// It ends where it ends, with nothing, with zeros and with other bytes behind it; cut short it is not whole; and no
// damage makes it reach past what there is.
void expect_whole(std::string_view format, const std::string& bytes) {
    const ByteView head(std::as_bytes(std::span(bytes)));
    EXPECT_GT(bid_of(*format_named(format), head), 0U) << format << " does not bid for itself";
    for (const std::string& behind : {std::string(), std::string(4096, '\0'), std::string(4096, 'x'), bytes}) {
        std::string all = bytes;
        all += behind;
        const Measured found = measured(format, all);
        EXPECT_TRUE(found.is_whole()) << format << ": " << found.trouble;
        EXPECT_EQ(found.length, bytes.size()) << format;
    }
    for (std::size_t length = 0; length < bytes.size(); length += length < 2048 ? 1 : bytes.size() / 256 + 1) {
        const Measured cut = measured(format, bytes.substr(0, length));
        ASSERT_FALSE(cut.is_whole()) << format << " cut at " << length;
        ASSERT_LE(cut.length, length) << format;
        ASSERT_LE(cut.sure, cut.length) << format;
    }
    EXPECT_FALSE(measured(format, bytes.substr(0, bytes.size() - 1)).is_whole()) << format;
    std::mt19937 random(5);
    for (int n = 0; n < 2000; ++n) {
        std::string damaged = bytes;
        for (auto blows = 1 + random() % 4; blows > 0; --blows)
            damaged[random() % (random() % 2 == 0 ? std::min<std::size_t>(damaged.size(), 256) : damaged.size())] =
                static_cast<char>(random());
        const Measured found = measured(format, damaged);
        ASSERT_LE(found.length, damaged.size()) << format;
        ASSERT_LE(found.sure, found.length) << format;
    }
}

TEST(Specified, Midi) {
    Layout tune;
    tune.text("MThd").big(6, 4).big(1, 2).big(2, 2).big(96, 2);
    for (int track = 0; track < 2; ++track)
        tune.text("MTrk")
            .big(8, 4)
            .text(std::string_view("\0\x90\x3C\x40", 4))
            .text(std::string_view("\0\xFF\x2F\0", 4));
    expect_whole("midi", tune.bytes());
    std::string lost = tune.bytes();
    lost[lost.size() - 2] = 'x';
    EXPECT_EQ(measured("midi", lost).end, End::broken) << "the second track has no end";
}

TEST(Specified, Amr) {
    Layout speech;
    speech.text("#!AMR\n");
    for (int frame = 0; frame < 30; ++frame) speech.text("\x3C").fill(31, 'v');  // 12.2 kbit/s
    const Measured found = measured("amr", speech.bytes() + std::string(600, '\xFF'));
    EXPECT_EQ(found.end, End::open);
    EXPECT_EQ(found.length, speech.size());
    EXPECT_EQ(measured("amr", speech.bytes().substr(0, 200)).end, End::nonsense) << "too few frames to believe it";
}

// A header of RAR 5.0: checksum, size, type, flags, and what the flags ask for.
std::string rar5_header(unsigned type, unsigned flags, std::string_view rest) {
    Layout inner;
    inner.little(type, 1).little(flags, 1).text(rest);
    Layout counted;
    counted.little(inner.size(), 1).text(inner.bytes());
    return Layout().little(sum_of(counted.bytes()), 4).text(counted.bytes()).bytes();
}

TEST(Specified, Rar5) {
    Layout archive;
    archive.text(std::string_view("Rar!\x1A\7\1\0", 8)).text(rar5_header(1, 0, std::string_view("\0", 1)));
    archive
        .text(rar5_header(2, 2,
                          "\x64"
                          "terns"))
        .fill(100, 'd')
        .text(rar5_header(5, 0, std::string_view("\0", 1)));
    expect_whole("rar", archive.bytes());
    std::string damaged = archive.bytes();
    damaged[22] = '!';
    const Measured found = measured("rar", damaged);
    EXPECT_EQ(found.end, End::broken);
    EXPECT_LT(found.sure, 40U);
}

TEST(Specified, Rar4) {
    const auto header = [](unsigned type, unsigned flags, std::string_view rest) {
        Layout inner;
        inner.little(type, 1).little(flags, 2).little(7 + rest.size(), 2).text(rest);
        return Layout().little(sum_of(inner.bytes()) & 0xFFFF, 2).text(inner.bytes()).bytes();
    };
    Layout archive;
    archive.text(std::string_view("Rar!\x1A\7\0", 7)).text(header(0x73, 0, std::string(6, '\0')));
    Layout file;
    file.little(50, 4).fill(21).text("logs.csv");
    archive.text(header(0x74, 0x8000, file.bytes())).fill(50, 'd').text(header(0x7B, 0x4000, ""));
    expect_whole("rar", archive.bytes());
}

TEST(Specified, PortableExecutable) {
    Layout program;
    program.text("MZ").up_to(60).little(128, 4).up_to(128).text(std::string_view("PE\0\0", 4));
    program.little(0x8664, 2).little(1, 2).fill(12).little(240, 2).little(2, 2);  // one section, an optional header
    program.little(0x20B, 2).up_to(128 + 24 + 240);
    program.text(".text\0\0\0").fill(3).little(100, 4).little(0x1000, 4).little(512, 4).little(1024, 4).fill(16);
    program.up_to(1024 + 512, 'c');
    expect_whole("pe", program.bytes());
    // Certificates behind the sections belong to it.
    Layout signed_program = program;
    signed_program.put(128 + 24 + 112 + 32, signed_program.size(), 4).put(128 + 24 + 112 + 36, 256, 4).fill(256, 's');
    expect_whole("pe", signed_program.bytes());
}

TEST(Specified, MachO) {
    Layout program;
    program.little(0xFEEDFACF, 4).little(0x01000007, 4).little(3, 4).little(2, 4).little(1, 4).little(72, 4).fill(8);
    program.little(25, 4).little(72, 4).text("__TEXT").fill(10).fill(16).little(256, 8).little(300, 8).fill(16);
    program.up_to(556, 'c');
    expect_whole("macho", program.bytes());
}

TEST(Specified, WebpWithWordsAboutIt) {
    Layout picture;
    picture.text("RIFF").little(0, 4).text("WEBP").text("VP8X").little(10, 4).fill(10, '\x04');
    picture.text("VP8 ").little(3000, 4).fill(3000, '\x9D');
    picture.text("XMP ").little(2000, 4).fill(2000, 'x');
    picture.put(4, picture.size() - 8, 4);
    expect_whole("webp", picture.bytes());
    std::string plain = picture.bytes();
    std::fill_n(plain.begin() + 1024, 1024, 'x');
    EXPECT_EQ(measured("webp", plain).end, End::broken) << "within the picture";
}

TEST(Specified, WoffSaysItsLength) {
    Layout font;
    font.text("wOFF").little(0x0100, 4).big(400, 4).big(1, 2).big(0, 2).up_to(44);
    font.text("cmap").big(64, 4).big(100, 4).big(100, 4).big(25 * 0x66666666U, 4).up_to(400, 'f');
    expect_whole("woff", font.bytes());
    Layout wrong = font;
    wrong.put(44 + 16, 1, 4);
    EXPECT_EQ(measured("woff", wrong.bytes()).end, End::broken) << "a checksum";
    font.put(44 + 4, 0xFFFFFFFF, 4);
    EXPECT_EQ(measured("woff", font.bytes()).end, End::nonsense) << "a table beyond the end";
}

TEST(Specified, Shortcut) {
    Layout link;
    link.little(76, 4).text(std::string_view("\1\x14\2\0\0\0\0\0\xC0\0\0\0\0\0\0\x46", 16));
    link.little(0x85, 4).up_to(76);                       // an ID list, and a name in UTF-16
    link.little(4, 2).fill(4).little(3, 2).fill(6, 'n');  // which follow
    link.little(0x60, 4).little(0xA0000003, 4).up_to(link.size() + 0x58);
    link.little(0, 4);
    expect_whole("lnk", link.bytes());
}

TEST(Specified, EventLog) {
    Layout log;
    log.text(std::string_view("ElfFile\0", 8)).up_to(32).little(128, 4).little(1, 2).little(3, 2).little(4096, 2);
    log.little(2, 2).up_to(4096);
    log.put(124, sum_of(std::string_view(log.bytes()).substr(0, 120)), 4);
    for (int chunk = 0; chunk < 2; ++chunk)
        log.text(std::string_view("ElfChnk\0", 8)).up_to(4096 + 65536 * (1 + static_cast<std::size_t>(chunk)), 'e');
    expect_whole("evtx", log.bytes());
    std::string damaged = log.bytes();
    damaged[4096 + 65536] = 'x';
    EXPECT_EQ(measured("evtx", damaged).end, End::broken);
    EXPECT_EQ(measured("evtx", damaged).length, 4096U + 65536);
}

TEST(Specified, RegistryHive) {
    Layout hive;
    hive.text("regf").little(1, 4).little(1, 4).up_to(40).little(8192, 4).up_to(508);
    std::uint32_t sum = 0;
    for (std::size_t at = 0; at < 508; at += 4) {
        std::uint32_t word = 0;
        std::memcpy(&word, hive.bytes().data() + at, 4);
        sum ^= word;
    }
    hive.little(sum, 4).up_to(4096);
    for (unsigned bin = 0; bin < 2; ++bin)
        hive.text("hbin").little(4096 * bin, 4).little(4096, 4).up_to(4096 * (2 + std::size_t{bin}), 'k');
    expect_whole("hive", hive.bytes());
}

TEST(Specified, PasswordDatabase) {
    Layout vault;
    vault.little(0x9AA2D903, 4).little(0xB54BFB67, 4).little(0, 2).little(4, 2);
    vault.little(2, 1).little(16, 4).fill(16, 'c').little(0, 1).little(4, 4).text("\r\n\r\n");
    Sha256 sum;
    sum.add(std::as_bytes(std::span(vault.bytes())));
    const std::string hex = sum.finish();
    for (std::size_t i = 0; i < hex.size(); i += 2) vault.little(std::stoul(hex.substr(i, 2), nullptr, 16), 1);
    vault.fill(32, 'm').fill(32, 'h').little(500, 4).fill(500, 'p').fill(32, 'h').little(0, 4);
    expect_whole("kdbx", vault.bytes());
    std::string damaged = vault.bytes();
    damaged[14] = '!';
    EXPECT_EQ(measured("kdbx", damaged).end, End::nonsense) << "the checksum of its header";
}

TEST(Specified, ChunksOfADrawing) {
    Layout chunks;
    chunks.text("CDRBvrsn").little(2, 4).little(1100, 2).text("LIST").little(12, 4).text("doc x").fill(7, 'd');
    expect_whole("cdr", Layout().text("RIFF").little(chunks.size(), 4).text(chunks.bytes()).bytes());
}

TEST(Specified, InDesign) {
    constexpr std::string_view kMaster =
        "\x06\x06\xED\xF5\xD8\x1D\x46\xE5\xBD\x31\xEF\xE7\xFE\x74\xB7\x1D"
        "DOCUMENT\1";
    Layout document;
    for (const int page : {0, 1}) {
        document.text(kMaster)
            .up_to(4096 * static_cast<std::size_t>(page) + 264)
            .little(7 + page, 8)
            .fill(8)
            .little(3, 4);
        document.up_to(4096 * static_cast<std::size_t>(page + 1));
    }
    document.up_to(3 * 4096, 'p');
    document.text("\xDE\x39\x39\x79\x51\x88\x4B\x6C\x8E\x63\xEE\xF8\xAE\xE0\xDD\x38")
        .little(1, 4)
        .little(2, 4)
        .little(4032, 4)
        .fill(4, '\xFF');
    document.fill(4032, 'o');
    document.text("\xFD\xCE\xDB\x70\xF7\x86\x4B\x4F\xA4\xD3\xC7\x28\xB3\x41\x71\x06")
        .little(1, 4)
        .little(2, 4)
        .little(4032, 4)
        .fill(4, '\xFF');
    expect_whole("indd", document.bytes());
}

TEST(Specified, DrawingsOfTwoThousandFour) {
    std::string header(0x6C, '\0');
    header.replace(0, 11, "AcFssFcAJMB");
    const auto put = [&](std::size_t at, std::uint64_t value) {
        for (std::size_t i = 0; i < 8; ++i) header[at + i] = static_cast<char>(value >> (8 * i));
    };
    put(0x2C, 0x900);
    put(0x34, 0xA00);
    std::uint32_t row = 1;
    for (char& c : header) {
        row = row * 0x343FD + 0x269EC3;
        c = static_cast<char>(c ^ static_cast<char>(row >> 16));
    }
    const std::string tail(0x14, 't');
    Layout drawing;
    drawing.text("AC1018").up_to(0x80).text(header).text(tail).up_to(0xA00, 'd').text(header).text(tail);
    expect_whole("dwg", drawing.bytes());
}

TEST(Specified, EarlierDrawings) {
    Layout drawing;
    drawing.text("AC1015").up_to(0x0D).little(0x400, 4).up_to(0x15).little(3, 4);
    for (const std::uint64_t section : {0, 1, 2})
        drawing.little(section, 1).little(0x80 + 0x40 * section, 4).little(0x40, 4);
    drawing.little(0, 2).text(std::string_view("\x95\xA0\x4E\x28\x99\x82\x1A\xE5\x5E\x41\xE0\x5F\x9D\x3A\x4D\0", 16));
    drawing.up_to(0x200, 's').text("\x2B\x84\xDE\x31\xD7\x6C\x60\x40\xAC\xDB\xBF\xF6\xED\xC3\x55\xFE");
    drawing.up_to(0x400, 'x')
        .text("\x1F\x25\x6D\x07\xD4\x36\x28\x28\x9D\x57\xCA\x3F\x9D\x44\x10\x2B")
        .little(80, 4)
        .fill(80, 'p');
    drawing.text("\xE0\xDA\x92\xF8\x2B\xC9\xD7\xD7\x62\xA8\x35\xC0\x62\xBB\xEF\xD4");
    const Measured found = measured("dwg", drawing.bytes() + std::string(4096, 'x'));
    EXPECT_TRUE(found.is_whole()) << found.trouble;
    EXPECT_EQ(found.length, drawing.size());
}

TEST(Specified, HeapOfACamera) {
    Layout picture;
    picture.text("II").little(26, 4).text("HEAPCCDR").up_to(26).fill(700, '\xA7');
    picture.little(2, 2).little(0x2008, 2).little(300, 4).little(0, 4).little(0x300A, 2).little(400, 4).little(300, 4);
    picture.little(700, 4);
    expect_whole("crw", picture.bytes());
}

TEST(Specified, ProgramDatabase) {
    Layout symbols;
    symbols.text("Microsoft C/C++ MSF 7.00\r\n\x1A").text("DS").fill(3).little(512, 4).little(1, 4).little(5, 4);
    symbols.little(600, 4).little(0, 4).little(3, 4).up_to(3 * 512).little(2, 4).little(4, 4).up_to(5 * 512, 's');
    expect_whole("msf", symbols.bytes());
}

TEST(Specified, PagesOfATablespace) {
    constexpr std::size_t kPage = 16384;
    std::string space;
    for (std::uint64_t page = 0; page < 3; ++page) {
        Layout one;
        one.fill(4).big(page, 4).fill(16).big(page == 0 ? 8 : 17855, 2).fill(8).big(9, 4);
        if (page == 0) one.big(9, 4).fill(4).big(3, 4).fill(4).big(0x15, 4);
        one.up_to(kPage - 4, 'r');
        space += one.big(crc32c(std::as_bytes(std::span(one.bytes()))), 4).bytes();
    }
    expect_whole("innodb", space);
    EXPECT_EQ(measured("innodb", space).proof, Proof::checksums);
    space[kPage + 4000] = '!';
    EXPECT_EQ(measured("innodb", space).proof, Proof::chain) << "a page of another sum";
    space[kPage + 7] = 2;
    EXPECT_EQ(measured("innodb", space).end, End::broken) << "a page of another number";
}

TEST(Specified, StoresWhoseEndNothingTells) {
    std::string server, bird;
    for (std::uint64_t page = 0; page < 9; ++page) {
        server += Layout().text("\1\x0F").up_to(32).little(page, 4).little(1, 2).up_to(8192, 'r').bytes();
        Layout one;
        one.little(page == 0 ? 1 : 5, 1).fill(1).little(0x3039, 2);
        if (page == 0) one.up_to(16).little(4096, 2).little(0x800D, 2);
        bird += one.up_to(4096, 'r').bytes();
    }
    for (const auto& [name, store] : {std::pair("mdf", server), std::pair("firebird", bird)}) {
        const Measured found = measured(name, store + std::string(16384, 'x'));
        EXPECT_EQ(found.end, End::open) << name;
        EXPECT_EQ(found.length, store.size()) << name;
        EXPECT_EQ(measured(name, store.substr(0, 20000)).end, End::nonsense) << name << ": too little to believe it";
    }
}

TEST(Specified, ARegionOfAWorld) {
    // Two chunks of "station", packed with zlib.
    constexpr std::string_view kChunk = "\x78\x9C\x2B\x2E\x49\x2C\xC9\xCC\xCF\x03\x00\x0C\x20\x03\x03"sv;
    Layout region;
    region.big(2, 3).little(1, 1).up_to(40).big(3, 3).little(1, 1).up_to(8192);
    for (const std::size_t end : {3 * 4096, 4 * 4096})
        region.big(kChunk.size() + 1, 4).little(2, 1).text(kChunk).up_to(end);
    expect_whole("region", region.bytes());
}

TEST(Specified, ListOfABackup) {
    Layout list;
    list.text("mbdb\5").fill(1);
    for (int n = 0; n < 3; ++n) {
        for (const std::string_view word : {"CameraRollDomain", "Media/DCIM/100STATN/0001.JPG"})
            list.big(word.size(), 2).text(word);
        list.big(0xFFFF, 2).big(20, 2).fill(20, 'h').big(0xFFFF, 2).fill(39).little(1, 1);
        for (const std::string_view word : {"type", "nest"}) list.big(word.size(), 2).text(word);
    }
    const Measured found = measured("mbdb", list.bytes() + std::string(4096, '\0'));
    EXPECT_TRUE(found.is_whole()) << found.trouble;
    EXPECT_EQ(found.length, list.size());
    EXPECT_EQ(measured("mbdb", list.bytes().substr(0, 40)).end, End::nonsense);
}

TEST(Specified, LengthsThatCanNotBeAreNoFiles) {
    EXPECT_EQ(measured("dbx", std::string(200, '\xFF')).end, End::nonsense);
    EXPECT_EQ(
        measured("prefetch", Layout().little(23, 4).text("SCCA").little(0, 4).little(40, 4).fill(100).bytes()).end,
        End::nonsense);
    EXPECT_EQ(measured("pst", "!BDN" + std::string(600, 'x')).end, End::nonsense);
    EXPECT_EQ(measured("pe", "MZ" + std::string(200, '\xFF')).end, End::nonsense);
    EXPECT_EQ(measured("lnk", std::string(200, '\0')).end, End::nonsense);
    Layout prefetch;
    prefetch.little(23, 4).text("SCCA").little(0, 4).little(300, 4).up_to(300, 'p');
    expect_whole("prefetch", prefetch.bytes());
}

// Points are any characters: brackets, too.
TEST(Specified, XPixmap) {
    std::string picture = "/* XPM */\nstatic char * tern_xpm[] = {\n\"8 40 3 2\",\n\"};\tc #000000\",\n";
    for (int row = 0; row < 40; ++row) picture += "\"};..};..};..};..\",\n";
    picture += "\"................\"};\n";
    for (const std::string& behind : {std::string(), std::string(512, '\0'), std::string("other text\n")}) {
        const Measured found = measured("xpm", picture + behind);
        EXPECT_TRUE(found.is_whole());
        EXPECT_EQ(found.length, picture.size());
    }
    EXPECT_FALSE(measured("xpm", picture.substr(0, picture.size() - 4)).is_whole());
}

// Its accelerators are said to have a hundred bytes, and have fewer.
TEST(Specified, CompiledFontOfX) {
    Layout font;
    font.text("\1fcp").little(2, 4);
    font.little(8, 4).little(0xE, 4).little(64, 4).little(40, 4);
    font.little(256, 4).little(0x10E, 4).little(100, 4).little(104, 4);
    font.fill(64, 'g').fill(72, 'a');
    const Measured found = measured("pcf", font.bytes() + std::string(400, '\0'));
    EXPECT_TRUE(found.is_whole());
    EXPECT_EQ(found.length, font.size());
}

}  // namespace
}  // namespace dredger
