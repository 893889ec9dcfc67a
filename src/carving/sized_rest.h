// Where the rest lies of a file of which nothing but a length tells: in one piece that ends with a sector that zeros
// fill, with the bytes that are most like those before it.
#pragma once

#include <functional>
#include <optional>

#include "carving/endings.h"

namespace dredger {

// All in bytes, `start` on the ground.
struct SizedFile {
    std::uint64_t start = 0;
    std::uint64_t own = 0;  // bytes behind which another file begins; the length or more: none does within
    std::uint64_t length = 0;
};

// The second of its two pieces. It begins where another file does within; where none does, where the bytes cease to be
// like the first ones, and those before some ending begin to be: packed bytes are all alike, so that nothing is found
// for them. `most_read`: bytes that may be looked at.
std::optional<Extent> rest_of_sized(const Medium& ground, const Remains& remains, const SizedFile& file,
                                    const Endings& endings, std::uint64_t most_read, const Budget::Stop& stop);

// Every way in which it can lie, those that end nearby first, until `take` says that it is enough: for files whose
// content shows whether it is right, though not where it goes wrong.
void each_rest_of_sized(const Medium& ground, const Remains& remains, const SizedFile& file, const Endings& endings,
                        const std::function<bool(const Extent& rest)>& take);

}  // namespace dredger
