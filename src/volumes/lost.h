// The search for volumes that no partition table tells of, by the structures that their file systems left.
#pragma once

#include <span>

#include "base/observer.h"
#include "volumes/trace.h"
#include "volumes/volume.h"

namespace dredger {

enum class Effort {
    likely_places,  // where partitions begin and end as a rule: a moment
    everywhere,     // every sector that no known volume holds
};

// Adds what was found to `map`, numbered after the volumes that it has. `known`: by the map's volumes, in their order,
// whether a file system was opened there; what lies within such a one is not looked at. Where nothing tells of a volume
// but a place that no file system was found at, what is found there takes its place. False: stopped by the observer.
Result<bool> add_lost_volumes(const Medium& medium, const std::vector<bool>& known, std::span<const Tracer> tracers,
                              Effort effort, Observer& observer, PartitionMap& map);

}  // namespace dredger
