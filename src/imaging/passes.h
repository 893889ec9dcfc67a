// How a failing medium is read: what is asked for next, and what is concluded from each answer. Large reads come first
// and leave an area at its first error; then what was left is closed in on from both of its ends; then its sectors are
// asked for one by one; then the bad ones again, as often as is wanted. A good sector is read once; a bad one is asked
// for a bounded number of times: with its block, by itself, and once for each retry.
#pragma once

#include <optional>

#include "media/area_map.h"

namespace dredger {

struct PassOptions {
    std::uint64_t block = 1 << 20;          // bytes of a large read; a multiple of `sector`
    std::uint32_t sector = 512;             // bytes
    unsigned retries = 0;                   // further rounds over what is bad, each the other way round
    bool reverse = false;                   // the first pass runs from the end to the start
    Extent range = {0, ~std::uint64_t{0}};  // of the medium; nothing else is asked for
};

class Passes {
  public:
    enum class Kind {
        large,   // what is untried, in large reads
        ends,    // what was left, from its ends
        single,  // what lies between the ends
        again,   // what is bad
    };

    // Goes on with what `map` says; it must outlive this.
    Passes(AreaMap& map, const PassOptions& options);

    // What to ask for next; nothing when all is done.
    std::optional<Extent> next();
    // What came of it.
    void answer(const Extent& asked, bool was_read);

    Kind kind() const { return kind_; }
    unsigned round() const { return round_; }  // of `again`, from 1
    std::uint64_t left() const;                // bytes that this pass has still to ask for

  private:
    void begin(Kind kind);
    std::optional<Extent> next_large();
    std::optional<Extent> next_end();
    std::optional<Extent> next_single();
    std::optional<Extent> next_again();
    Extent first_of(AreaState state, std::uint64_t from) const;  // within the range
    Extent last_of(AreaState state, std::uint64_t to) const;     // that begins before `to`

    AreaMap& map_;
    PassOptions options_;
    Extent range_;
    Kind kind_ = Kind::large;
    unsigned round_ = 0;
    std::uint64_t position_;         // up to where this pass has come
    std::uint64_t skip_ = 0;         // bytes that are passed over after the next failure
    bool skipping_ = true;           // the first time through; what was passed over is read in a second one
    std::optional<Extent> closing_;  // the area whose ends are being closed in on
    bool from_its_end_ = false;
    std::vector<Extent> round_areas_;  // bad ones that this round has still to ask for, in its order
    std::size_t round_at_ = 0;
};

inline constexpr std::string_view kPassWords[] = {"large reads", "closing in on what was left", "single sectors",
                                                  "once more"};

}  // namespace dredger
