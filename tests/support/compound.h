// Compound files laid out by hand after [MS-CFB], for what no program at hand writes.
#pragma once

#include <cstring>
#include <string>
#include <utility>
#include <vector>

#include "formats/compound_file.h"
#include "support/support.h"

namespace dredger::test {

class Compound {
  public:
    static constexpr std::size_t kSector = 512;

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
        return bytes_of(head + sectors + directory + content);
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

}  // namespace dredger::test
