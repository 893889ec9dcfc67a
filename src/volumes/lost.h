// The search for volumes that no partition table tells of, by the structures that their file systems left.
#pragma once

#include <span>

#include "base/observer.h"
#include "volumes/trace.h"
#include "volumes/volume.h"

namespace dredger {

// Looks at likely places, where partitions begin and end as a rule, and adds what was found to `map`, numbered after
// the volumes that it has. `known`: by the map's volumes, in their order, whether a file system was opened there; what
// lies within such a one is not looked at. Where nothing tells of a volume but a place that no file system was found
// at, what is found there takes its place. False: stopped by the observer.
bool add_lost_volumes(const Medium& medium, const std::vector<bool>& known, std::span<const Tracer> tracers,
                      Observer& observer, PartitionMap& map);

// Adds the volumes that traces from all over the medium tell of and the map does not have; where they share ground with
// one that it has, more must agree.
void add_traced_volumes(const Medium& medium, std::vector<VolumeTrace> traces, PartitionMap& map);

}  // namespace dredger
