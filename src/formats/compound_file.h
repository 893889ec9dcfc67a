// The streams of a compound file ([MS-CFB]): a file system in small, whose streams are chains of sectors.
#pragma once

#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "formats/reader.h"

namespace dredger::formats {

class CompoundFile {
  public:
    static constexpr std::string_view kMark = "\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1";
    static constexpr std::size_t kMostStream = 32 << 20;  // bytes

    // Of anything: what is no compound file has no streams. `content` must outlive this.
    explicit CompoundFile(Reader& content);

    // The first `most` bytes of a stream, as far as they can be had; empty where there is none of this name.
    std::string stream(const std::string& name, std::size_t most = kMostStream) const;

    // The text of a message's property, by the four digits of its tag ([MS-OXMSG] 2.4); of at most so many bytes.
    std::string message_property(const std::string& tag, std::size_t most = kMostStream) const;

  private:
    struct Stream {
        std::uint32_t first, size;
    };
    using Sectors = std::vector<std::uint32_t>;

    std::uint64_t place_of(std::uint32_t sector) const { return (std::uint64_t{sector} + 1) * sector_; }
    void read_table();
    // The sectors of a chain, as many as hold `bytes`.
    Sectors chain(std::uint32_t first, std::uint64_t bytes) const;
    std::string bytes_of(const Sectors& sectors, std::size_t most) const;
    std::string small_stream(const Stream& stream, std::size_t most) const;

    Reader& content_;
    std::uint64_t sector_ = 512;
    std::vector<std::uint32_t> next_;  // sector behind each sector
    std::map<std::string, Stream> streams_;
    Stream root_{0, 0};  // holds the small streams
};

}  // namespace dredger::formats
