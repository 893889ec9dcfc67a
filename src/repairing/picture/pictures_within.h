// Whole pictures that stand somewhere in content of another kind.
#pragma once

#include <string_view>
#include <vector>

#include "repairing/mending.h"

namespace dredger::repairing {

// Those of a format ("jpeg", "png") of at least so many bytes that touch no hole, in the order of the content; at most
// a thousand.
std::vector<Extent> pictures_in(const Damaged& file, const Workbench& bench, std::string_view format,
                                std::uint64_t least);

}  // namespace dredger::repairing
