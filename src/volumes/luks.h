// LUKS, version 1 and 2 ("LUKS2 On-Disk Format Specification", 2.1): recognised, never opened.
#pragma once

#include "volumes/containers.h"

namespace dredger::luks {

std::optional<Container> look(const Medium& volume);

}  // namespace dredger::luks
