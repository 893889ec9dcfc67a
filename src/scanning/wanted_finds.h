// Whether what a scan is to find at least has turned up: only what came since the last time is looked at.
#pragma once

#include "catalog/catalog.h"

namespace dredger {

class WantedFinds {
  public:
    // `name`: a glob, or empty; `count`: how many, 0 for one that has a name. Without either it is never over.
    WantedFinds(std::string name, std::uint64_t count) : name_(std::move(name)), count_(count) {}

    Result<bool> is_over(const Catalog& catalog);

  private:
    std::string name_;
    std::uint64_t count_;
    std::uint64_t found_ = 0;
    std::int64_t looked_at_ = 0;  // the last candidate
};

}  // namespace dredger
