// Text of documents in compound files, laid out by hand after [MS-CFB], [MS-DOC], [MS-PPT] and [MS-OXMSG].
#include "preview/compound.h"

#include <cstring>
#include <gmock/gmock.h>

#include "formats/compound_file.h"
#include "support/support.h"

namespace dredger::preview {
namespace {

using testing::HasSubstr;

constexpr std::size_t kSector = 512;

class Compound {
  public:
    // Streams are given whole sectors of at least 4096 bytes, so that none is a small one.
    void add(const std::u16string& name, std::string bytes) {
        bytes.resize(std::max<std::size_t>(4096, (bytes.size() + kSector - 1) / kSector * kSector));
        streams_.push_back({name, std::move(bytes)});
    }

    std::vector<std::byte> bytes() const {
        std::string directory = entry(u"Root Entry", 5, 0xFFFFFFFE, 0);
        std::string content;
        std::vector<std::uint32_t> table = {0xFFFFFFFD, 0xFFFFFFFE};  // itself, and the directory
        const std::size_t directory_sectors = (streams_.size() + 1 + 3) / 4;
        for (std::size_t i = 1; i < directory_sectors; ++i) {
            table.back() = static_cast<std::uint32_t>(table.size());
            table.push_back(0xFFFFFFFE);
        }
        for (const auto& [name, stream] : streams_) {
            directory +=
                entry(name, 2, static_cast<std::uint32_t>(table.size()), static_cast<std::uint32_t>(stream.size()));
            for (std::size_t n = 1; n < stream.size() / kSector; ++n)
                table.push_back(static_cast<std::uint32_t>(table.size() + 1));
            table.push_back(0xFFFFFFFE);
            content += stream;
        }
        directory.resize(directory_sectors * kSector);
        std::string head(kSector, '\0');
        head.replace(0, 8, formats::CompoundFile::kMark);
        put(head, 26, 3, 2);
        put(head, 28, 0xFFFE, 2);
        put(head, 30, 9, 2);
        put(head, 32, 6, 2);
        put(head, 44, 1, 4);
        put(head, 48, 1, 4);
        put(head, 56, 4096, 4);
        put(head, 60, 0xFFFFFFFE, 4);
        put(head, 68, 0xFFFFFFFE, 4);
        std::memset(head.data() + 80, 0xFF, kSector - 80);
        std::string sectors(kSector, '\xFF');
        for (std::size_t i = 0; i < table.size(); ++i) put(sectors, i * 4, table[i], 4);
        return test::bytes_of(head + sectors + directory + content);
    }

    static void put(std::string& into, std::size_t at, std::uint64_t value, std::size_t size) {
        std::memcpy(into.data() + at, &value, size);
    }

  private:
    static std::string entry(const std::u16string& name, int type, std::uint32_t first, std::uint32_t size) {
        std::string bytes(128, '\0');
        std::memcpy(bytes.data(), name.data(), name.size() * 2);
        put(bytes, 64, name.size() * 2 + 2, 2);
        put(bytes, 66, static_cast<std::uint64_t>(type), 1);
        put(bytes, 116, first, 4);
        put(bytes, 120, size, 4);
        return bytes;
    }

    std::vector<std::pair<std::u16string, std::string>> streams_;
};

std::string text_of(const std::vector<std::byte>& bytes, std::size_t most = 1000) {
    const test::MemoryMedium medium(bytes);
    Reader reader(medium);
    return compound_text(reader, most);
}

Compound word() {
    std::string document(4096, '\0'), table(4096, '\0');
    Compound::put(document, 0, 0xA5EC, 2);
    Compound::put(document, 10, 0x0200, 2);  // 1Table
    Compound::put(document, 0x01A2, 0, 4);
    Compound::put(document, 0x01A6, 5 + 12 + 16, 4);
    const std::string narrow = "Ledge 4:\rtwo chicks";
    const std::u16string wide = u" – Küken";
    std::memcpy(document.data() + 1024, narrow.data(), narrow.size());
    std::memcpy(document.data() + 2048, wide.data(), wide.size() * 2);
    Compound::put(table, 0, 2, 1);
    Compound::put(table, 1, 12 + 16, 4);
    Compound::put(table, 5, 0, 4);
    Compound::put(table, 9, narrow.size(), 4);
    Compound::put(table, 13, narrow.size() + wide.size(), 4);
    Compound::put(table, 17 + 2, 0x40000000 | 1024 * 2, 4);
    Compound::put(table, 25 + 2, 2048, 4);
    Compound file;
    file.add(u"WordDocument", document);
    file.add(u"1Table", table);
    return file;
}

TEST(CompoundText, ReadsThePiecesOfAWordDocument) {
    EXPECT_EQ(text_of(word().bytes()), "Ledge 4:\ntwo chicks – Küken");
    EXPECT_EQ(text_of(word().bytes(), 8), "Ledge 4:");
}

TEST(CompoundText, ReadsTheTextOfSlidesInTheirContainers) {
    const std::u16string wide = u"Season 2026";
    std::string atom(8, '\0'), container(8, '\0');
    Compound::put(atom, 2, 0x0FA0, 2);
    Compound::put(atom, 4, wide.size() * 2, 4);
    atom.append(reinterpret_cast<const char*>(wide.data()), wide.size() * 2);
    Compound::put(container, 0, 0x000F, 2);
    Compound::put(container, 2, 1000, 2);
    Compound::put(container, 4, atom.size(), 4);
    Compound file;
    file.add(u"PowerPoint Document", container + atom);
    EXPECT_THAT(text_of(file.bytes()), HasSubstr("Season 2026"));
}

TEST(CompoundText, ReadsTheSubjectOfAMessage) {
    Compound file;
    const std::u16string subject = u"Boat on Friday";
    std::string bytes(reinterpret_cast<const char*>(subject.data()), subject.size() * 2);
    file.add(u"__substg1.0_0037001F", bytes);
    EXPECT_THAT(text_of(file.bytes()), HasSubstr("Subject: Boat on Friday"));
}

TEST(CompoundText, DamageNeverLeadsAstray) {
    const auto whole = word().bytes();
    for (std::size_t at = 0; at < 3 * kSector; ++at)
        for (const int value : {0, 0x7F, 0xFF}) {
            auto bytes = whole;
            bytes[at] = static_cast<std::byte>(value);
            EXPECT_LE(text_of(bytes).size(), 1000U);
        }
    for (std::size_t length = 0; length < whole.size(); length += 97)
        text_of({whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(length)});
}

}  // namespace
}  // namespace dredger::preview
