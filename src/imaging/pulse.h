// How a medium bears being read: how many asks it refuses or answers slowly, and whether that grows.
#pragma once

#include <chrono>
#include <cstdint>
#include <string>
#include <vector>

#include "media/area_map.h"

namespace dredger {

class Pulse {
  public:
    // `first`: the bytes were not asked for before. Only these tell how the medium does: what was refused once is
    // likely to be refused again.
    void answered(bool came, std::chrono::milliseconds took, bool first);

    std::uint64_t asks() const { return asks_; }
    std::uint64_t refused() const { return refused_; }
    std::uint64_t slow() const { return slow_; }
    std::chrono::milliseconds slowest() const { return slowest_; }
    // A refused ask takes so long on average.
    std::chrono::milliseconds price_of_refusal() const;

    enum class Trend { steady, worse, much_worse };
    // Of this run: what was asked for lately against all before; and against the earlier runs.
    Trend trend(const std::vector<AreaMap::Run>& earlier) const;

    // What the technician should know and do, a sentence each. `refused_bytes` stand in the map.
    std::vector<std::string> advice(const std::vector<AreaMap::Run>& earlier, std::uint64_t refused_bytes) const;

  private:
    std::uint64_t asks_ = 0, refused_ = 0, slow_ = 0;
    std::chrono::milliseconds slowest_{0}, in_refusals_{0};
    std::uint64_t first_asks_ = 0, first_trouble_ = 0;  // of those that were asked for the first time
    std::vector<bool> lately_;                          // trouble or none, of the last of these; round and round
    std::size_t next_ = 0;
};

}  // namespace dredger
