// Names for things that are made on many machines and meet later: random UUIDs (RFC 9562, version 4).
#pragma once

#include <string>

namespace dredger {

// "0c6b1f0e-6d0c-4a53-9a0e-2f1d7a5c9b11"
std::string unique_id();

}  // namespace dredger
