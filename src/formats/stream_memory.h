// What is known of the packed streams in content that is unpacked again and again, each time with other bytes behind
// some place: those before it need not be unpacked once more.
#pragma once

#include <list>
#include <map>
#include <optional>

#include "formats/familiarity.h"
#include "formats/unpacking.h"

namespace dredger::formats {

class StreamMemory {
  public:
    // A stream on its way.
    struct Way {
        Unpacked so_far;
        StreamDecoder decoder;
        Familiarity familiarity;

        std::optional<Way> copy() const;  // as far as the packing allows
    };

    // From now on only the first `bytes` of the content are what they were.
    void keep(std::uint64_t bytes);
    std::uint64_t kept() const { return kept_; }

    // Of a stream that begins at `at`, and of which the first `head` bytes that come out are wanted: what came of it,
    // where it ended; else the way that led furthest. Null: nothing is known.
    const Unpacked* ended(std::uint64_t at, std::size_t head) const;
    std::optional<Way> furthest(std::uint64_t at, std::size_t head) const;

    void note_end(std::uint64_t at, std::size_t head, const Unpacked& all);
    // Kept where it leads far enough beyond those that are known.
    void note(std::uint64_t at, std::size_t head, const Way& way);

  private:
    struct Ended {
        std::size_t head;
        Unpacked all;
    };
    struct Known {
        std::uint64_t at;
        std::size_t head;
        Way way;
        std::uint64_t end() const { return at + way.so_far.packed; }
    };
    std::uint64_t kept_ = 0;
    std::map<std::uint64_t, Ended> ended_;  // by where it begins
    std::list<Known> known_;                // in the order of their ends
    std::uint64_t step_ = 16 << 10;         // bytes between two of them
};

}  // namespace dredger::formats
