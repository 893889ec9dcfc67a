#include "catalog/order.h"

#include <algorithm>
#include <fmt/format.h>

namespace dredger {

Result<Order> parse_order(std::string_view text) {
    Order order;
    std::string_view word = text;
    if (word.starts_with('-')) {
        order.reversed = true;
        word.remove_prefix(1);
    }
    const auto found = std::find(std::begin(kOrderWords), std::end(kOrderWords), word);
    if (found == std::end(kOrderWords))
        return fail(ErrorKind::usage, fmt::format("{} is no order", text), "",
                    fmt::format("choose from {}; with - before it the other way round", fmt::join(kOrderWords, ", ")));
    order.by = static_cast<Order::By>(found - std::begin(kOrderWords));
    return order;
}

std::string order_sql(const Order& order) {
    const char* down = order.reversed ? " DESC" : "";
    const std::string_view word = kOrderWords[static_cast<std::size_t>(order.by)];
    switch (order.by) {
        // Folders behind the files; of equal ones what is proven first.
        case Order::By::prospect:
            return fmt::format("is_folder, prospect{}, chk{}, folder, name, id", order.reversed ? "" : " DESC",
                               order.reversed ? " DESC" : "");
        case Order::By::path: return fmt::format("folder{0}, name{0}, id", down);
        case Order::By::modified:
        case Order::By::created:
        case Order::By::deleted: return fmt::format("{0} IS NULL, {0}{1}, id", word, down);
        case Order::By::name:
        case Order::By::size:
        case Order::By::kind: break;
    }
    return fmt::format("{}{}, id", word, down);
}

}  // namespace dredger
