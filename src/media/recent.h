// Keeps the values that were made last, for readers of several threads: blocks of a medium, tables of a virtual disk,
// unpacked clusters.
#pragma once

#include <list>
#include <memory>
#include <mutex>
#include <unordered_map>

#include "base/error.h"

namespace dredger {

template <class Value>
class Recent {
  public:
    // Holds at most `most` values.
    explicit Recent(std::size_t most) : most_(most) {}

    // The value under the key; where it is not at hand, what `make` gives: a Result<Value>.
    template <class Make>
    Result<std::shared_ptr<const Value>> get(std::uint64_t key, Make make) const {
        const std::lock_guard guard(lock_);
        if (const auto known = by_key_.find(key); known != by_key_.end()) {
            order_.splice(order_.begin(), order_, known->second);
            return order_.front().second;
        }
        DREDGER_TRY(Value made, make());
        order_.emplace_front(key, std::make_shared<const Value>(std::move(made)));
        by_key_[key] = order_.begin();
        if (order_.size() > most_) {
            by_key_.erase(order_.back().first);
            order_.pop_back();
        }
        return order_.front().second;
    }

  private:
    using Order = std::list<std::pair<std::uint64_t, std::shared_ptr<const Value>>>;
    std::size_t most_;
    mutable std::mutex lock_;
    mutable Order order_;  // newest first
    mutable std::unordered_map<std::uint64_t, typename Order::iterator> by_key_;
};

}  // namespace dredger
