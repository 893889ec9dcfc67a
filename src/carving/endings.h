// Where in what nobody holds a file may end: drivers fill the last sector of a file with zeros.
#pragma once

#include <array>
#include <cstdint>
#include <vector>

#include "carving/remains.h"
#include "formats/reader.h"
#include "media/medium.h"

namespace dredger {

class Endings {
  public:
    // Reads what `remains` leaves of the places that are asked for, once, in order: so many bytes at most, of a large
    // ground.
    static constexpr std::uint64_t kMostRead = 8ULL << 30;
    Endings(const Medium& ground, const Remains& remains, const Coverage& asked_for, const Budget::Stop& stop);

    // The places where a file may end of which the last `rest` bytes lie in one piece that begins with a grain, in
    // order: it ends there with a byte that is not zero, and so many zeros follow up to the end of the sector that they
    // are no chance. None for files that leave no room for them.
    std::vector<std::uint64_t> of(std::uint64_t rest) const;

  private:
    std::uint64_t grain_, phase_;
    std::array<std::vector<std::uint64_t>, 512> ends_;  // on the ground, by their byte of the sector; each in order
};

}  // namespace dredger
