// Every format's measurer on files that other programs made: where they end, and that no damage leads it astray.
#include <algorithm>
#include <gmock/gmock.h>
#include <random>

#include "formats/format.h"
#include "support/compound.h"

namespace dredger {
namespace {

using test::MemoryMedium;
using test::noise;

const std::map<std::string, std::vector<std::byte>>& all_samples() {
    static const auto samples = test::samples();
    return samples;
}

std::vector<std::string> sample_names() {
    std::vector<std::string> names;
    for (const auto& [name, bytes] : all_samples()) names.push_back(name);
    return names;
}

const Format* best_bid(const std::vector<std::byte>& bytes) {
    const ByteView head(std::span<const std::byte>(bytes).first(std::min<std::size_t>(bytes.size(), 64 << 10)));
    const Format* best = nullptr;
    unsigned most = 0;
    for (const Format* format : all_formats()) {
        if (!format->measure) continue;
        if (const unsigned bits = bid_of(*format, head); bits > most) {
            most = bits;
            best = format;
        }
    }
    return best;
}

struct Outcome {
    std::string format;
    Measured measured;
};

Outcome measure(std::vector<std::byte> bytes) {
    const Format* format = best_bid(bytes);
    if (format == nullptr) return {};
    const MemoryMedium medium(std::move(bytes));
    Budget budget;
    Reader reader(medium, budget);
    const Measured measured = measure(*format, reader);
    return {std::string(measured.format.empty() ? format->name : measured.format), measured};
}

std::vector<std::byte> followed_by(std::vector<std::byte> bytes, const std::vector<std::byte>& more) {
    bytes.insert(bytes.end(), more.begin(), more.end());
    return bytes;
}

// Zeros to the end of the sector, as file systems leave them.
std::vector<std::byte> padded(std::vector<std::byte> bytes) {
    bytes.resize((bytes.size() / 512 + 1) * 512);
    return bytes;
}

class Sample : public testing::TestWithParam<std::string> {
  protected:
    const std::vector<std::byte>& bytes() const { return all_samples().at(GetParam()); }
    std::string format() const { return GetParam().substr(0, GetParam().find('-')); }
};

TEST_P(Sample, EndsWhereItEndsWhateverFollows) {
    const auto alone = padded(bytes());
    for (const auto& surroundings : {alone, followed_by(alone, noise(8192, 1)), followed_by(alone, bytes()),
                                     followed_by(alone, all_samples().at("png-plain.png"))}) {
        const Outcome outcome = measure(surroundings);
        EXPECT_EQ(outcome.format, format());
        EXPECT_EQ(outcome.measured.length, bytes().size()) << outcome.measured.trouble;
        EXPECT_TRUE(outcome.measured.is_whole() || outcome.measured.end == Measured::End::open)
            << outcome.measured.trouble;
    }
}

TEST_P(Sample, EndsWithTheContentThatItFills) {
    // Text is believed only where zeros show its end.
    if (format() == "txt" || format() == "csv") return;
    const Outcome outcome = measure(bytes());
    EXPECT_EQ(outcome.format, format());
    EXPECT_EQ(outcome.measured.length, bytes().size()) << outcome.measured.trouble;
    EXPECT_TRUE(outcome.measured.is_whole() || outcome.measured.end == Measured::End::open) << outcome.measured.trouble;
}

TEST_P(Sample, IsNotWholeWhereAPartOfItCannotBeRead) {
    const auto medium = std::make_shared<MemoryMedium>(bytes());
    medium->make_unreadable({0, bytes().size()});
    const Format* format = best_bid(bytes());
    ASSERT_NE(format, nullptr);
    Budget budget;
    Reader reader(*medium, budget);
    EXPECT_FALSE(measure(*format, reader).is_whole());
}

TEST_P(Sample, CutAnywhereItNeverReachesPastTheEnd) {
    // Every length of its first bytes, then with a stride that hits all kinds of places.
    for (std::size_t length = 0; length < bytes().size(); length += length < 2048 ? 1 : bytes().size() / 512 + 1) {
        const Outcome outcome = measure({bytes().begin(), bytes().begin() + static_cast<std::ptrdiff_t>(length)});
        ASSERT_LE(outcome.measured.length, length);
        ASSERT_LE(outcome.measured.sure, outcome.measured.length);
    }
}

TEST_P(Sample, DamagedAtRandomItNeverReachesPastTheEnd) {
    std::mt19937 random(7);
    const auto alone = padded(bytes());
    const std::size_t early = std::min<std::size_t>(alone.size(), 512);
    for (unsigned n = 0; n < 2000; ++n) {
        auto damaged = alone;
        // Half of the blows hit the head, where the structures are.
        for (auto blows = 1 + random() % 4; blows > 0; --blows)
            damaged[random() % (random() % 2 == 0 ? early : damaged.size())] = static_cast<std::byte>(random());
        const std::size_t size = damaged.size();
        const Outcome outcome = measure(std::move(damaged));
        ASSERT_LE(outcome.measured.length, size);
        ASSERT_LE(outcome.measured.sure, outcome.measured.length);
    }
}

// Those that say something of themselves.
std::vector<std::string> describing_sample_names() {
    std::vector<std::string> names = sample_names();
    std::erase_if(names, [](const std::string& name) {
        const Format* format = best_bid(padded(all_samples().at(name)));
        return format == nullptr || !format->describe;
    });
    return names;
}

class Describing : public Sample {};

TEST_P(Describing, SurvivesDamage) {
    const Format* format = best_bid(padded(bytes()));
    std::mt19937 random(9);
    for (unsigned n = 0; n < 300; ++n) {
        auto damaged = padded(bytes());
        for (auto blows = random() % 6; blows > 0; --blows)
            damaged[random() % std::min<std::size_t>(damaged.size(), 2048)] = static_cast<std::byte>(random());
        const MemoryMedium medium(std::move(damaged));
        Budget budget;
        Reader reader(medium, budget);
        EXPECT_LE(format->describe(reader, bytes().size()).title.size(), 4096U);
    }
}

std::string test_name(const testing::TestParamInfo<std::string>& sample) {
    std::string name = sample.param;
    std::replace_if(
        name.begin(), name.end(), [](char c) { return std::isalnum(static_cast<unsigned char>(c)) == 0; }, '_');
    return name;
}

INSTANTIATE_TEST_SUITE_P(Formats, Sample, testing::ValuesIn(sample_names()), test_name);
INSTANTIATE_TEST_SUITE_P(Formats, Describing, testing::ValuesIn(describing_sample_names()), test_name);

// --- what the content proves, and what it does not ----------------------------------------------------------------

std::vector<std::byte> overwritten(const std::string& name, double from, std::size_t length, std::byte with) {
    auto bytes = all_samples().at(name);
    const auto at = static_cast<std::size_t>(from * static_cast<double>(bytes.size()));
    std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(at), std::min(length, bytes.size() - at), with);
    return padded(bytes);
}

TEST(Measured, AForeignStretchInThePictureShows) {
    for (const char* name :
         {"jpeg-baseline.jpg", "jpeg-progressive.jpg", "jpeg-restarts.jpg", "png-plain.png", "gif-still.gif"}) {
        const Outcome outcome = measure(overwritten(name, 0.6, 700, std::byte{0x41}));
        EXPECT_NE(outcome.measured.end, Measured::End::whole) << name;
    }
}

TEST(Measured, AForeignStretchInAnArchiveShows) {
    for (const char* name : {"zip-plain.zip", "docx-plain.docx", "gz-plain.gz", "bz2-plain.bz2", "xz-plain.xz",
                             "flac-plain.flac", "ogg-plain.ogg"}) {
        const Outcome outcome = measure(overwritten(name, 0.8, 40, std::byte{0x5A}));
        EXPECT_NE(outcome.measured.end, Measured::End::whole) << name;
    }
}

TEST(Measured, HeadsWithNonsenseBehindThemAreNoFiles) {
    for (const std::string& name : sample_names()) {
        if (name.starts_with("txt") || name.starts_with("csv")) continue;
        auto bytes = all_samples().at(name);
        // The first block of a RAR 5, which has a checksum, ends behind 24 bytes: with it the start of one is proven.
        const std::size_t head = std::min<std::size_t>(bytes.size() / 4, name.starts_with("rar") ? 20 : 24);
        bytes.resize(head);
        const Outcome outcome = measure(followed_by(bytes, noise(65536, 3)));
        // A length is all that these tell of themselves.
        EXPECT_TRUE(!outcome.measured.is_file() || outcome.measured.proof == Proof::length) << name;
    }
}

TEST(Measured, PlainTextOnlyWhereItShowsThatItBeginsAndEnds) {
    const auto text = [](const std::string& words) { return measure(padded(test::bytes_of(words))); };
    const std::string line = "Two chicks in burrow 14, both ringed.\n";
    EXPECT_EQ(text("Diary of the warden\n" + line + line + line).format, "txt");
    EXPECT_FALSE(text("oth ringed.\n" + line + line + line + line + line + line).measured.is_file());
    EXPECT_FALSE(measure(test::bytes_of(std::string(512, 'a'))).measured.is_file());
    EXPECT_FALSE(text("short\n").measured.is_file());
}

TEST(Measured, ProgramsBeginWithALineOfOneMark) {
    const auto text = [](const std::string& words) { return measure(padded(test::bytes_of(words))); };
    const std::string line = " * Rings are read from the ledge, in good light.\n";
    EXPECT_EQ(text("/" + std::string(78, '*') + "\n" + line + line + " */\nint rings;\n").format, "txt");
    std::string table = "/* made by a program */\n";
    for (int n = 0; n < 40; ++n) table += "{12,7,0},{3,1,0},{5,3,1},{3,1,0},{2,3,0},{3,1,0},{4,3,1},{3,1,0},\n";
    EXPECT_EQ(text(table + "};\n").format, "txt");
    EXPECT_FALSE(text(std::string(2000, '*')).measured.is_file()) << "what fills room";
}

// Everybody may add boxes: those of JPX are in no list of JP2.
TEST(Measured, BoxesThatNobodyListsLeadToThoseThatAreKnown) {
    const auto picture = all_samples().at("jpeg2000-box.jp2");
    const std::size_t behind_type = 12 + std::to_integer<std::size_t>(picture[15]);
    const auto box = [](std::string_view type, std::size_t size) {
        auto bytes = noise(size, 5);
        for (std::size_t i = 0; i < 4; ++i) {
            bytes[i] = static_cast<std::byte>(size >> (24 - 8 * i));
            bytes[4 + i] = static_cast<std::byte>(type[i]);
        }
        return bytes;
    };
    auto with = picture;
    for (const char* type : {"asoc", "rreq"}) {
        const auto one = box(type, 109);
        with.insert(with.begin() + static_cast<std::ptrdiff_t>(behind_type), one.begin(), one.end());
    }
    const Outcome outcome = measure(followed_by(padded(with), noise(4096, 2)));
    EXPECT_EQ(outcome.format, "jpeg2000");
    EXPECT_EQ(outcome.measured.length, with.size());
    // What is no name, or leads nowhere, is no box of the file.
    const auto other = measure(followed_by(followed_by(picture, box("r?eq", 109)), noise(4096, 2)));
    EXPECT_EQ(other.measured.length, picture.size());
}

TEST(Measured, SoundThatStopsInTheMiddleOfASectorGoesOnElsewhere) {
    auto sound = all_samples().at("mp3-plain.mp3");
    const auto once = sound;
    while (sound.size() < 16384) sound = followed_by(sound, once);
    const auto begun = std::vector<std::byte>(sound.begin(), sound.begin() + 8192);
    const Outcome torn = measure(followed_by(begun, noise(8192, 8)));
    EXPECT_EQ(torn.measured.end, Measured::End::broken);
    EXPECT_NE(measure(padded(sound)).measured.end, Measured::End::broken);
}

// An update that begins behind a whole document belongs to it, though its end lies elsewhere.
TEST(Measured, AnUpdateThatIsTornIsNoEnd) {
    const auto document = all_samples().at("pdf-office.pdf");
    const std::string text(reinterpret_cast<const char*>(document.data()), document.size());
    const std::size_t table = std::stoul(text.substr(text.rfind("startxref") + 9));
    const std::string object =
        "900 0 obj\n<</Length 3000>>\nstream\n" + std::string(3000, 'r') + "\nendstream\nendobj\n";
    const std::string another = "901 0 obj\n(" + std::string(2000, 'n') + ")\nendobj\n";
    const auto digits = [](std::size_t place) {
        std::string number = std::to_string(place);
        return std::string(10 - number.size(), '0') + number + " 00000 n \n";
    };
    std::string update = object + another;
    const std::size_t at = document.size() + update.size();
    update += "xref\n900 2\n" + digits(document.size()) + digits(document.size() + object.size()) +
              "trailer\n<</Size 902/Prev " + std::to_string(table) + "/Root 1 0 R>>\nstartxref\n" + std::to_string(at) +
              "\n%%EOF\n";
    const auto whole = followed_by(document, test::bytes_of(update));
    const Outcome updated = measure(padded(whole));
    EXPECT_TRUE(updated.measured.is_whole());
    EXPECT_EQ(updated.measured.length, whole.size());
    for (const std::size_t had : {1000U, 3500U, 4600U}) {
        auto torn =
            std::vector<std::byte>(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(document.size() + had));
        const Outcome outcome = measure(followed_by(torn, noise(8192, 6)));
        EXPECT_EQ(outcome.measured.end, Measured::End::broken) << had;
        EXPECT_GE(outcome.measured.sure, document.size()) << had;
        EXPECT_LE(outcome.measured.sure, torn.size()) << had;
    }
    EXPECT_EQ(measure(padded(document)).measured.length, document.size());
}

TEST(Measured, PostScriptEndsWithItsTextOrWhatItsProgramKeeps) {
    const std::string drawing = "%!PS-Adobe-3.0 EPSF-3.0\n%%BoundingBox: 0 0 72 48\n" + std::string(1200, 'm') + "\n";
    const auto next = test::bytes_of("%!PS-Adobe-3.0\n" + std::string(900, 'l') + "\n%%EOF\n");
    const auto text = test::bytes_of(drawing + "%%Trailer\n");
    const Outcome without_mark = measure(followed_by(padded(text), next));
    EXPECT_EQ(without_mark.format, "eps");
    EXPECT_EQ(without_mark.measured.end, Measured::End::open);
    EXPECT_EQ(without_mark.measured.length, text.size());
    const auto kept = test::bytes_of(drawing +
                                     "%%EOF\n%AI9_PrintingDataEnd\n(%AI9_PrivateDataEnd) eq\n%AI9_PrivateDataBegin\n"
                                     "%!PS-Adobe-3.0 EPSF-3.0\n%AI9_DataStream\n%AI9_PrivateDataEnd\n");
    const Outcome with_more = measure(followed_by(padded(kept), next));
    EXPECT_TRUE(with_more.measured.is_whole());
    EXPECT_EQ(with_more.measured.length, kept.size());
}

TEST(Measured, SaysWhatTheContentSays) {
    const auto described = [](const char* name) {
        const auto& bytes = all_samples().at(name);
        const MemoryMedium medium(bytes);
        Budget budget;
        Reader reader(medium, budget);
        return best_bid(bytes)->describe(reader, bytes.size());
    };
    EXPECT_EQ(described("mp3-tagged.mp3").title, "Storm petrel purr");
    EXPECT_EQ(described("flac-plain.flac").title, "Burrow call");
    EXPECT_EQ(described("eml-plain.eml").title, "Rings for June");
    EXPECT_EQ(described("html-plain.html").title, "Colony diary");
    EXPECT_EQ(described("svg-mark.svg").title, "Colony map");
    EXPECT_EQ(described("iso9660-plain.iso").title, "RINGING");
    EXPECT_EQ(described("torrent-plain.torrent").title, "burrow-call.flac");
    for (const char* name : {"doc-office.doc", "docx-office.docx", "odt-office.odt"}) {
        EXPECT_EQ(described(name).title, "Puffin & tern diary") << name;
        ASSERT_TRUE(described(name).date) << name;
        // OpenDocument writes the time of the wall.
        EXPECT_EQ(iso8601(*described(name).date),
                  std::string_view(name).ends_with(".odt") ? "2026-05-04T10:20:30" : "2026-05-04T10:20:30Z")
            << name;
    }
    for (const char* name : {"xls-office.xls", "xlsx-office.xlsx", "ods-office.ods"})
        EXPECT_EQ(described(name).title, "Wing lengths 2026") << name;
    for (const char* name : {"ppt-office.ppt", "pptx-office.pptx", "odp-office.odp"})
        EXPECT_EQ(described(name).title, "Kittiwakes of the cliff") << name;
    EXPECT_EQ(described("pdf-office.pdf").title, "Puffin & tern diary");
    EXPECT_TRUE(described("pdf-office.pdf").date);
    EXPECT_FALSE(described("wmv-plain.wmv").date);
    EXPECT_EQ(described("rtf-office.rtf").title, "Puffin & tern diary");
    EXPECT_EQ(iso8601(described("rtf-office.rtf").date.value()), "2026-05-04T10:20:00");
    for (const char* name : {"eml-plain.eml", "eml-parts.eml"})
        EXPECT_EQ(iso8601(described(name).date.value()), "2026-05-03T09:12:44Z") << name;
    EXPECT_THAT(described("jpeg-baseline.jpg").facts, testing::Contains(Fact{"pixels", "96 x 64"}));
}

TEST(Measured, TitlesAreReadAsTheyAreWritten) {
    const auto title_of = [](std::string text) {
        const auto bytes = test::bytes_of(text);
        const MemoryMedium medium(bytes);
        Budget budget;
        Reader reader(medium, budget);
        return best_bid(bytes)->describe(reader, bytes.size()).title;
    };
    EXPECT_EQ(title_of("<!DOCTYPE html><html><TITLE lang='de'> Tern &amp; Küken &#8211; 2026\n</TITLE>"),
              "Tern & Küken – 2026");
    EXPECT_EQ(title_of("<!doctype html><html><title>R&D < all</title>"), "R&D");
    EXPECT_EQ(title_of("<!doctype html><html><title>no end"), "no end");
    EXPECT_EQ(title_of("<!doctype html><html><title"), "");
    EXPECT_EQ(title_of(R"({\rtf1{\info{\title K\'fcken \u8211? \u55357 ?\u56358 ? a\}b\\c}}})"), "Küken – 🐦 a}b\\c");
    EXPECT_EQ(title_of(R"({\rtf1{\info{\title cut \u)"), "cut ?");
    EXPECT_EQ(title_of(R"({\rtf1{\info{\title cut \')"), "cut ?");
    EXPECT_EQ(title_of(R"({\rtf1{\info{\author nobody}}})"), "");
    // A bookmark's title is not the document's.
    EXPECT_EQ(
        title_of(
            "%PDF-1.4\n3 0 obj\n<< /Title (Terns \\(north\\)) >>\nendobj\n5 0 obj\n<< /Title (Chapter 9) >>\nendobj\n"
            "trailer\n<< /Size 6 /Info 3 0 R >>\nstartxref\n0\n%%EOF\n"),
        "Terns (north)");
    EXPECT_EQ(
        title_of("%PDF-1.4\n5 0 obj\n<< /Title (Chapter 9) >>\nendobj\ntrailer\n<< /Size 6 >>\nstartxref\n0\n%%EOF\n"),
        "");
}

// What no program at hand writes: a message as [MS-OXMSG] has it, and a film with the time of its making.
TEST(Measured, MessagesTellTheirSubjectAndWhenTheyWereSent) {
    const std::u16string subject = u"Boat on Friday – six seats";
    std::string properties(32 + 2 * 16, '\0');
    test::Compound::put(properties, 32, 0x0E060040, 4);  // came
    test::Compound::put(properties, 32 + 8, 134222999240000000ULL, 8);
    test::Compound::put(properties, 48, 0x00390040, 4);  // sent
    test::Compound::put(properties, 48 + 8, 134222995640000000ULL, 8);
    test::Compound file;
    file.add(u"__substg1.0_0037001F", {reinterpret_cast<const char*>(subject.data()), subject.size() * 2});
    file.add(u"__properties_version1.0", properties);
    const auto bytes = file.bytes();
    EXPECT_EQ(measure(bytes).format, "msg");
    const MemoryMedium medium(bytes);
    Budget budget;
    Reader reader(medium, budget);
    const Description said = best_bid(bytes)->describe(reader, bytes.size());
    EXPECT_EQ(said.title, "Boat on Friday – six seats");
    EXPECT_EQ(iso8601(said.date.value()), "2026-05-03T16:32:44Z");
}

}  // namespace
}  // namespace dredger
