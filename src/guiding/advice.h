// Where lost files often are, besides the drive: what costs nothing and harms nothing is tried first.
#pragma once

#include <string>
#include <vector>

#include "guiding/wanted.h"

namespace dredger::guiding {

// A sentence for each place to look in, those for what is wanted alone among them.
std::vector<std::string> cheaper_ways(const Wanted& wanted);

}  // namespace dredger::guiding
