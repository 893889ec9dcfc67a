// A look at one stream: of places at which something must stand is told whether it does.
#pragma once

#include <functional>

#include "formats/compound/block_stream.h"

namespace dredger::formats {

// Hear of places in the content.
struct Witnesses {
    std::function<void(std::uint64_t place)> right, wrong;
};

class Look {
  public:
    Look(const BlockStream& stream, const Witnesses& witnesses) : stream_(stream), witnesses_(witnesses) {}

    // What stands at `at` is as it must be, or is not. False where not.
    bool expect(std::uint64_t at, bool is_so) const {
        if (at < stream_.there()) (is_so ? witnesses_.right : witnesses_.wrong)(stream_.place_of(at));
        return is_so;
    }
    const BlockStream& stream() const { return stream_; }

  private:
    const BlockStream& stream_;
    const Witnesses& witnesses_;
};

// A picture within the stream, of a format of which damage shows wherever it is.
void look_at_content(const Look& look, std::uint64_t at, std::uint64_t length);

// Characters of a text from `from` up to `to`, of one byte or two. `allowed`: of the 32 that stand for no sign, a bit
// each.
void look_at_text(const Look& look, std::uint64_t from, std::uint64_t to, bool is_wide, std::uint32_t allowed);

}  // namespace dredger::formats
