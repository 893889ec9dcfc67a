#include "volumes/lost.h"

#include <algorithm>
#include <set>

#include "base/checked.h"

namespace dredger {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kAlignment = 1 << 20;   // bytes, of today's partitions
constexpr std::uint64_t kTrack = 63 * kSector;  // where the first partition began in former times
constexpr std::uint64_t kCylinder = 255 * kTrack;
constexpr std::uint64_t kHead = 68 << 10;      // bytes of a volume in which its first structures lie
constexpr std::uint64_t kTail = 16 * kSector;  // bytes in which its last ones do
constexpr unsigned kMaxPlaces = 512;           // alignments that are looked at in each gap
constexpr std::size_t kMaxTraces = 4096;
constexpr unsigned kAgreeingAgainst = 2;  // structures, for a volume where another one is known

struct Gap {
    std::uint64_t from, to;  // bytes
};

bool lies_on(const Medium& medium, const VolumeTrace& trace) {
    return checked_add(trace.offset, trace.length) && trace.length != 0 && trace.offset < medium.size();
}

class Search {
  public:
    Search(const Medium& medium, std::span<const Tracer> tracers, Observer& observer)
        : medium_(medium), tracers_(tracers), observer_(observer) {}

    bool run(const std::vector<Gap>& gaps) {
        for (const Gap& gap : gaps)
            if (!likely_places_of(gap)) return false;
        return true;
    }
    std::vector<VolumeTrace> take() { return std::move(traces_); }

  private:
    bool likely_places_of(const Gap& gap) {
        look_at(gap.from, std::min(gap.from + kHead, gap.to));
        look_at(gap.to - std::min(gap.to - gap.from, kTail), gap.to);
        look_around(gap.from + kTrack, gap);
        for (unsigned n = 0; n < kMaxPlaces; ++n) {
            if (observer_.should_stop()) return false;
            look_around((gap.from / kAlignment + n) * kAlignment, gap);
            if (n < 64) look_around((gap.from / kCylinder + n) * kCylinder, gap);
        }
        // Behind each volume the next one begins, and before it the one before it ends.
        for (std::size_t i = 0; i < traces_.size() && i < kMaxPlaces; ++i) {
            if (observer_.should_stop()) return false;
            const std::uint64_t from = traces_[i].offset, end = from + traces_[i].length;
            look_around(from, gap);
            look_around(end, gap);
            look_around((end + kAlignment - 1) / kAlignment * kAlignment, gap);
            look_around(end + kTrack, gap);
        }
        return true;
    }

    // A place where a volume may begin and another one end.
    void look_around(std::uint64_t place, const Gap& gap) {
        if (place >= gap.to) return;
        look_at(std::max(place - std::min(place, kTail), gap.from), std::min(place + kHead, gap.to));
    }

    void look_at(std::uint64_t from, std::uint64_t to) {
        if (from >= to || !seen_.insert(from).second || traces_.size() >= kMaxTraces) return;
        std::vector<std::byte> bytes(static_cast<std::size_t>(to - from));
        std::vector<Extent> bad;
        if (!medium_.read(from, bytes, &bad)) return;
        std::vector<VolumeTrace> found;
        look_for_traces(medium_, tracers_, from, bytes, found);
        for (VolumeTrace& trace : found)
            if (lies_on(medium_, trace)) keep_trace(std::move(trace), traces_);
    }

    const Medium& medium_;
    std::span<const Tracer> tracers_;
    Observer& observer_;
    std::vector<VolumeTrace> traces_;
    std::set<std::uint64_t> seen_;
};

// What lies within another one that as much agrees with belongs to it: its own copies, and images kept in its
// files. Of two that cross, the one that more agrees with is kept.
std::vector<VolumeTrace> winners(const std::vector<VolumeTrace>& traces) {
    const auto lies_within = [](const VolumeTrace& a, const VolumeTrace& b) {
        return a.offset >= b.offset && a.offset + a.length <= b.offset + b.length && a.length < b.length &&
               b.agreeing >= a.agreeing;
    };
    std::vector<VolumeTrace> outer;
    for (const VolumeTrace& trace : traces)
        if (std::none_of(traces.begin(), traces.end(),
                         [&](const VolumeTrace& other) { return lies_within(trace, other); }))
            outer.push_back(trace);
    std::stable_sort(outer.begin(), outer.end(),
                     [](const VolumeTrace& a, const VolumeTrace& b) { return a.agreeing > b.agreeing; });
    std::vector<VolumeTrace> list;
    for (VolumeTrace& trace : outer)
        if (std::none_of(list.begin(), list.end(), [&](const VolumeTrace& other) {
                return trace.offset < other.offset + other.length && other.offset < trace.offset + trace.length;
            }))
            list.push_back(std::move(trace));
    std::sort(list.begin(), list.end(), [](const VolumeTrace& a, const VolumeTrace& b) { return a.offset < b.offset; });
    return list;
}

std::vector<Gap> gaps_of(const Medium& medium, const PartitionMap& map, const std::vector<bool>& known) {
    std::vector<Gap> held;
    for (std::size_t i = 0; i < map.volumes.size(); ++i)
        if (i < known.size() && known[i])
            held.push_back({map.volumes[i].offset, map.volumes[i].offset + map.volumes[i].length});
    std::sort(held.begin(), held.end(), [](const Gap& a, const Gap& b) { return a.from < b.from; });
    std::vector<Gap> gaps;
    std::uint64_t reached = 0;
    for (const Gap& one : held) {
        if (one.from > reached) gaps.push_back({reached, one.from});
        reached = std::max(reached, one.to);
    }
    if (reached < medium.size()) gaps.push_back({reached, medium.size()});
    return gaps;
}

Volume volume_of(const Medium& medium, VolumeTrace&& trace) {
    Volume volume;
    volume.offset = trace.offset;
    volume.length = std::min(trace.length, medium.size() - trace.offset);
    volume.cut = trace.length - volume.length;
    volume.table = TableKind::lost;
    volume.type = trace.filesystem;
    volume.name = trace.label;
    volume.evidence = std::move(trace.evidence);
    return volume;
}

void number(const Medium& medium, std::vector<VolumeTrace>&& found, PartitionMap& map) {
    unsigned last = 0;
    for (const Volume& volume : map.volumes) last = std::max(last, volume.number);
    for (VolumeTrace& trace : found) {
        map.volumes.push_back(volume_of(medium, std::move(trace)));
        map.volumes.back().number = ++last;
    }
}

}  // namespace

bool add_lost_volumes(const Medium& medium, const std::vector<bool>& known, std::span<const Tracer> tracers,
                      Observer& observer, PartitionMap& map) {
    Search search(medium, tracers, observer);
    const bool is_done = search.run(gaps_of(medium, map, known));
    std::vector<VolumeTrace> found = winners(search.take());
    // The same place as a table tells of is no other volume.
    std::erase_if(found, [&](const VolumeTrace& trace) {
        return std::any_of(map.volumes.begin(), map.volumes.end(), [&](const Volume& volume) {
            return volume.table != TableKind::none && volume.offset == trace.offset;
        });
    });
    if (!found.empty() && map.table == TableKind::none && !known.empty() && !known.front()) map.volumes.clear();
    number(medium, std::move(found), map);
    return is_done;
}

void add_traced_volumes(const Medium& medium, std::vector<VolumeTrace> traces, PartitionMap& map) {
    std::erase_if(traces, [&](const VolumeTrace& trace) {
        return !lies_on(medium, trace) ||
               std::any_of(map.volumes.begin(), map.volumes.end(), [&](const Volume& volume) {
                   const bool shares =
                       trace.offset < volume.offset + volume.length && volume.offset < trace.offset + trace.length;
                   return volume.offset == trace.offset || (shares && trace.agreeing < kAgreeingAgainst);
               });
    });
    number(medium, winners(traces), map);
}

}  // namespace dredger
