// Whether what a scan is to find at least has turned up: only what came since the last time is looked at.
#pragma once

#include "catalog/catalog.h"

namespace dredger {

class WantedFinds {
  public:
    // So many of these; without a selection it is never over.
    WantedFinds(const std::optional<Selection>& wanted, std::uint64_t count) : wanted_(wanted), count_(count) {}

    Result<bool> is_over(const Catalog& catalog);

  private:
    std::optional<Selection> wanted_;
    std::uint64_t count_;
    std::uint64_t found_ = 0;
    std::int64_t looked_at_ = 0;  // the last candidate
};

}  // namespace dredger
