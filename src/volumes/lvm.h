// LVM2 physical volumes. Sources: the LVM2 project's lib/format_text/layout.h and lvm.conf(5)'s grammar of its
// metadata.
#pragma once

#include "volumes/containers.h"

namespace dredger::lvm {

std::optional<Container> look(const Medium& volume);

}  // namespace dredger::lvm
