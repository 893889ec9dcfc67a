// Lends out blocks of one size, at addresses that reads past the kernel's memory can take; they come back by
// themselves.
#pragma once

#include <memory>
#include <mutex>
#include <vector>

#include "base/aligned.h"

namespace dredger {

class BlockPool {
  public:
    explicit BlockPool(std::size_t size) : size_(size), idle_(std::make_shared<Idle>()) {}

    std::shared_ptr<AlignedBytes> take() {
        std::unique_ptr<AlignedBytes> block;
        {
            const std::lock_guard guard(idle_->lock);
            if (!idle_->blocks.empty()) {
                block = std::move(idle_->blocks.back());
                idle_->blocks.pop_back();
            }
        }
        if (block == nullptr) block = std::make_unique<AlignedBytes>(size_);
        return {block.release(), [idle = idle_](AlignedBytes* back) {
                    const std::lock_guard guard(idle->lock);
                    idle->blocks.emplace_back(back);
                }};
    }

  private:
    struct Idle {
        std::mutex lock;
        std::vector<std::unique_ptr<AlignedBytes>> blocks;
    };
    std::size_t size_;
    std::shared_ptr<Idle> idle_;
};

}  // namespace dredger
