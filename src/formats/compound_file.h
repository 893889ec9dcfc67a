// The streams of a compound file ([MS-CFB]): a file system in small, whose streams are chains of sectors.
#pragma once

#include <map>
#include <string>
#include <string_view>

#include "formats/families.h"

namespace dredger::formats {

// Its streams, the small ones first; and how far it holds. Measures it where no parts are wanted.
Measured take_compound_apart(Reader& content, const PartSink& parts);

// As Format::gaps.
std::vector<std::uint64_t> gaps_of_compound(Reader& content, const Measured& found);

class CompoundFile {
  public:
    static constexpr std::string_view kMark = "\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1";
    static constexpr std::size_t kMaxStream = 32 << 20;  // bytes

    // Of anything: what is no compound file has no streams. `content` must outlive this.
    explicit CompoundFile(Reader& content);

    // The first `most` bytes of a stream, as far as they can be had; empty where there is none of this name.
    std::string stream(const std::string& name, std::size_t most = kMaxStream) const;

    // The text of a message's property, by the four digits of its tag ([MS-OXMSG] 2.4); of at most so many bytes.
    std::string message_property(const std::string& tag, std::size_t most = kMaxStream) const;

  private:
    static constexpr std::size_t kMaxStreams = 100'000;

    Reader& content_;
    std::map<std::string, Part> streams_;
};

}  // namespace dredger::formats
