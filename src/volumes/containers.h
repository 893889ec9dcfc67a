// What lies between a partition and a file system: LVM2, Linux software RAID and LUKS. Volumes within them that lie on
// this medium alone are mapped; others are named, with what has to be done first.
#pragma once

#include <optional>

#include "volumes/volume.h"

namespace dredger {

struct Container {
    std::string type;                  // "LVM2 physical volume of group station"
    std::vector<Volume> volumes;       // in it; places count from its start
    std::vector<std::string> remarks;  // a sentence each
};

// None where `volume` is no container.
std::optional<Container> look_into_container(const Medium& volume);

// Adds the volumes in those of `map` that are containers, numbered behind all others, and marks these.
void add_contained_volumes(const MediumPtr& medium, PartitionMap& map);

}  // namespace dredger
