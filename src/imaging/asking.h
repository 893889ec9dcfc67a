// In what order a medium that may be failing is asked for its bytes. One rule: what was refused least often comes
// first; of that, what is worth most; of that, what lies next. With each refusal the pieces become an eighth as large,
// down to a sector, so that one bad sector costs some thirty asks and not one for each sector around it. A stretch that
// refuses several times in a row is put off until the rest of its kind was asked for.
#pragma once

#include <optional>

#include "media/area_map.h"

namespace dredger {

struct AskOptions {
    std::uint64_t piece = 1 << 20;           // bytes asked for at first; a multiple of `sector`
    std::uint32_t sector = 512;              // bytes
    unsigned asks = 5;                       // how often one byte is asked for at most
    bool backwards = false;                  // from the end to the start
    Extent within = {0, ~std::uint64_t{0}};  // of the medium; nothing else is asked for
};

class Asking {
  public:
    // Goes on with what `map` says; it must outlive this. `worth`: the places of each rank, the highest first; those in
    // a rank need no order. What is in none is worth least.
    Asking(AreaMap& map, const AskOptions& options, std::vector<std::vector<Extent>> worth = {});

    // What to ask for next; nothing when all is done.
    std::optional<Extent> next();
    // What came of it.
    void answer(const Extent& asked, bool came, std::chrono::milliseconds took = {});

    unsigned refusals() const { return refusals_; }  // of what is asked for now
    std::size_t rank() const { return rank_; }       // of what is asked for now; that of the rest is the last
    std::uint64_t piece() const { return piece_after(refusals_); }  // bytes
    std::uint64_t left() const;                                     // bytes of this rank that wait for the same ask

  private:
    std::uint64_t piece_after(unsigned refusals) const;
    bool goes_backwards() const;
    Extent first_waiting() const;  // from position_ on, in the order of this round
    void start_over();
    void put_off(const Extent& asked, bool came);

    AreaMap& map_;
    AskOptions options_;
    std::vector<std::vector<Extent>> ranks_;  // in order and apart from each other; the last one: all that is wanted
    unsigned refusals_ = 0;
    std::size_t rank_ = 0;
    std::uint64_t position_ = 0;
    std::uint64_t distance_ = 0;   // bytes that are put off after the next refusal
    bool is_second_look_ = false;  // at what was put off
};

}  // namespace dredger
