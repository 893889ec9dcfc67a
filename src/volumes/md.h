// Members of Linux software RAID. Source: the Linux kernel's include/uapi/linux/raid/md_p.h.
#pragma once

#include "volumes/containers.h"

namespace dredger::md {

std::optional<Container> look(const Medium& volume);

}  // namespace dredger::md
