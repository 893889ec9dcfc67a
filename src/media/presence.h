// Whether a medium is there still, or has gone: its cable came loose, it lost its power. For callers of several
// threads.
#pragma once

#include <atomic>

#include "media/medium.h"

namespace dredger {

class Presence {
  public:
    explicit Presence(MediumPtr medium) : medium_(std::move(medium)) {}

    // It could be read there.
    void answered_at(std::uint64_t offset) const { answered_at_ = offset; }
    // Reads once more where it answered; where it never did, here and there. Fails where nothing comes.
    Result<void> check() const;

  private:
    bool answers() const;

    MediumPtr medium_;
    mutable std::atomic<std::uint64_t> answered_at_ = ~std::uint64_t{0};  // past the end: nowhere yet
};

}  // namespace dredger
