// How a sweep is written down in a catalog, so that it can be gone on with.
#pragma once

#include "carving/carver.h"
#include "catalog/candidate.h"
#include "scanning/scan_request.h"
#include "volumes/trace.h"

namespace dredger {

// The wishes that narrow or widen it.
std::string settings_of(const ScanRequest& request);

std::string text_of(const SweepState& state);
std::string text_of(const std::vector<VolumeTrace>& traces);

// Errors: not_understood where the catalog holds something else.
Result<SweepState> state_of(const Sweep& sweep);
Result<std::vector<VolumeTrace>> traces_of(const Sweep& sweep);

}  // namespace dredger
