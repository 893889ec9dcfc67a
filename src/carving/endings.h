// Where in what nobody holds a file may end: drivers fill the last sector of a file with zeros.
#pragma once

#include <cstdint>
#include <vector>

#include "carving/remains.h"
#include "formats/reader.h"
#include "media/medium.h"

namespace dredger {

class Endings {
  public:
    // Reads all that `remains` leaves, once, in order.
    Endings(const Medium& ground, const Remains& remains, const Budget::Stop& stop);

    // The places where a file may end of which the last `rest` bytes lie in one piece that begins with a grain, in
    // order: it ends there with a byte that is not zero, and so many zeros follow up to the end of the sector that they
    // are no chance. None for files that leave no room for them.
    std::vector<std::uint64_t> of(std::uint64_t rest) const;

  private:
    std::uint64_t grain_, phase_;
    std::vector<std::uint64_t> ends_;  // on the ground, in order
};

}  // namespace dredger
