// In which order candidates are handed over, and which stretch of them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "base/error.h"

namespace dredger {

struct Order {
    enum class By { prospect, path, name, size, modified, created, deleted, kind };
    By by = By::prospect;
    bool reversed = false;
};
inline constexpr std::string_view kOrderWords[] = {"prospect", "path",    "name",    "size",
                                                   "modified", "created", "deleted", "kind"};

// "size": the smallest first, and "-size" the other way round; "prospect": the best first. What has no such time comes
// last either way.
Result<Order> parse_order(std::string_view text);

// What stands behind ORDER BY in a query on `candidates`.
std::string order_sql(const Order& order);

struct Page {
    std::uint64_t skip = 0;
    std::optional<std::uint64_t> most;  // none: all
};

}  // namespace dredger
