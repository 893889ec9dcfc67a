// What content is made of, as its own structure tells: the entries of an archive, the streams of a compound file, the
// objects of a document, the boxes of a film, messages. Whoever looks into content works from these.
#pragma once

#include <functional>
#include <string>
#include <string_view>
#include <vector>

#include "base/stream_decoder.h"
#include "formats/reader.h"

namespace dredger {

struct Part {
    enum class Check {
        none,   // nothing tells whether its bytes are right
        right,  // its checksum, or what follows it, agrees
        wrong,  // they disagree, or it can't be unpacked
    };
    std::string_view role;      // "entry", "stream", "object", "box", "chunk", "segment", "scan", "message"
    std::string name;           // as the content has it; empty: it has none
    std::vector<Extent> where;  // its bytes as they are stored, in the content, in order
    Packing packing = Packing::none;
    std::uint64_t size = 0;  // bytes that it has, unpacked; 0 where that is not known
    Check check = Check::none;
    std::string folder = {};  // in which it lies within the content, parts joined with '/'; empty: at the top
};

// Hears of the parts in the order of their places; false: of no more. May be empty.
using PartSink = std::function<bool(Part&&)>;

// The first `most` bytes of a part, unpacked, as far as they can be had.
std::string bytes_of(Reader& content, const Part& part, std::size_t most);

// Hands parts on for as long as they are wanted.
class PartTeller {
  public:
    explicit PartTeller(const PartSink& sink) : sink_(sink), is_wanted_(static_cast<bool>(sink)) {}
    bool is_wanted() const { return is_wanted_; }
    void tell(Part&& part) { is_wanted_ = is_wanted_ && sink_(std::move(part)); }

  private:
    const PartSink& sink_;
    bool is_wanted_;
};

}  // namespace dredger
