// A medium that a list of runs makes up, in order: parts of a split image, chunks of an image that is told run by run.
#pragma once

#include <functional>

#include "media/images/translated.h"

namespace dredger {

// A stretch of the disk; `on` and `offset` say where it lies. Without `on` it is zeros, or `unpack` says what it is.
struct Run {
    std::uint64_t start = 0;   // byte of the disk
    std::uint64_t length = 0;  // bytes
    MediumPtr on = nullptr;
    std::uint64_t offset = 0;
    bool is_lost = false;  // what stands here can't be had
    // The bytes of the run, all of them.
    std::function<Result<std::vector<std::byte>>()> unpack = nullptr;
};

class Runs final : public Translated {
  public:
    // In the order of their starts, without gaps between them.
    Runs(std::string name, std::vector<Run> runs);

  protected:
    Result<Place> place_of(std::uint64_t offset) const override;

  private:
    std::vector<Run> runs_;
    Recent<std::vector<std::byte>> unpacked_{8};
};

}  // namespace dredger
