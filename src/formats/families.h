// The format families. Each is defined in the file of its name; registry.cpp lists them.
#pragma once

#include <vector>

#include "formats/format.h"

namespace dredger::formats {

using namespace std::string_view_literals;

const std::vector<Format>& pictures();
const std::vector<Format>& video();
const std::vector<Format>& audio();
const std::vector<Format>& documents();
const std::vector<Format>& archives();
const std::vector<Format>& mail();
const std::vector<Format>& databases();
const std::vector<Format>& programs();

}  // namespace dredger::formats
