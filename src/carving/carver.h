// Finds content by what it is: one pass over the ground, a look at every sector start, and a measurement of what looks
// like a file. What file systems left is seen in the same pass.
#pragma once

#include <atomic>
#include <functional>
#include <memory>

#include "base/observer.h"
#include "carving/find.h"
#include "carving/nominator.h"
#include "media/coverage.h"
#include "volumes/trace.h"

namespace dredger {

class GroundAhead;

// What of a sweep is to be remembered, so that it can go on there.
struct SweepState {
    std::uint64_t position = 0;    // bytes of the ground that are done
    std::vector<Extent> taken;     // on the medium, of finds that reach further
    std::vector<Extent> doubtful;  // the same of broken ones
    std::uint64_t dropped = 0;     // starts that turned out to be nonsense
    std::uint64_t given_up = 0;    // starts that cost more to follow than they can be worth
};

struct CarveOptions {
    Wanted wanted;
    std::vector<const Format*> further;  // the user's own
    bool every_offset = false;           // not only where sectors begin
    bool inside = false;                 // also within files that were found whole
    bool lone_heads = false;             // also what is no find unless the rest of it turns up elsewhere
    unsigned workers = 0;                // 0: as many as the machine has processors
    MediumPtr medium = {};               // that the ground is of, and
    std::vector<Tracer> tracers = {};    // what file systems left is looked for on its way, with these
};

class FindSink {
  public:
    virtual ~FindSink() = default;
    virtual Result<void> take(Find&& find) = 0;
    virtual void take(VolumeTrace&& trace) = 0;
    // Everything up to `state` was handed over. False ends the sweep.
    virtual Result<bool> reached(const SweepState& state) = 0;
    // Asked while the sweep waits for what is measured; what was reached so far is told again then.
    virtual bool should_stop() = 0;
};

class Carver {
  public:
    // `ground`: what to search, of a medium; pieces of sectors that follow each other as files do. `known`: parts of
    // that medium that belong to files that are known already.
    Carver(std::shared_ptr<const Content> ground, CarveOptions options, Coverage known);
    ~Carver();

    // Goes on where `state` says. The finds come in the order of their places, whatever the number of workers.
    Result<void> sweep(const SweepState& state, FindSink& sink);

  private:
    struct Searched;
    class Workers;
    // What begins at `start` of the ground, if anything; `ground` reads it. What it cost in vain is added to `in`.
    std::optional<Find> examine(const MediumPtr& ground, std::uint64_t start, const std::vector<Bid>& bids,
                                Searched& in) const;
    void cut_at_another(const MediumPtr& ground, std::uint64_t start, const Format& format, Find& find,
                        Searched& in) const;
    std::vector<std::uint64_t> proven_lengths(const MediumPtr& ground, std::uint64_t start,
                                              const std::vector<Bid>& bids, Searched& in) const;
    Budget::Stop stop() const;
    // What one more start of this block may cost.
    Budget budget_for(const Searched& in) const;
    void look_for_volumes(Searched& in) const;
    void search(const GroundAhead& ground, std::uint64_t from, std::uint64_t to, Searched& into) const;
    Result<void> settle(const GroundAhead& ground, Searched& done, FindSink& sink);
    SweepState state_at(std::uint64_t position) const;
    const Coverage* covering(const Find& find, std::uint64_t start) const;
    bool is_wanted(const Format& format) const;
    bool keeps_its_bytes(const Find& find) const;
    bool is_open_to_heads(const Find& find) const;

    std::shared_ptr<const Content> ground_;
    CarveOptions options_;
    Nominator nominator_;
    Coverage known_;           // by files that are known already
    Coverage taken_;           // by whole files
    Coverage doubtful_;        // by the good parts of broken files
    bool is_in_order_ = true;  // the ground, on its medium
    std::uint64_t dropped_ = 0;
    std::uint64_t given_up_ = 0;
    mutable std::atomic<bool> stopped_ = false;  // asks the workers to leave what they are at
};

}  // namespace dredger
