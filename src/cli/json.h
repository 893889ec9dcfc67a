// What commands print for programs.
#pragma once

#include <nlohmann/json.hpp>
#include <optional>

#include "base/times.h"

namespace dredger::cli {

using Json = nlohmann::ordered_json;

inline Json time_or_null(const std::optional<FileTime>& time) { return time ? Json(iso8601(*time)) : Json(nullptr); }

}  // namespace dredger::cli
