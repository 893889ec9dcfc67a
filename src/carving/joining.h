// Puts together a file that lies in pieces: content that stops making sense goes on somewhere in what nobody holds.
#pragma once

#include <optional>
#include <vector>

#include "carving/endings.h"
#include "carving/remains.h"
#include "formats/format.h"

namespace dredger {

// A file whose content, read in one piece, is broken or may belong to somebody else in part.
struct TornFile {
    std::uint64_t start = 0;  // on the ground
    const Format* format = nullptr;
    Measured measured;         // of the ground from its start on
    std::uint64_t own = 0;     // bytes behind which another file begins
    std::uint64_t size = 0;    // bytes that it has by its record; 0: not known
    bool is_cut = false;       // a proven file begins within
    bool is_head = false;      // nothing but its beginning is known
    bool is_followed = false;  // where its length would end it in one piece something follows in the same sector
    bool is_broken = true;     // it stops making sense; false where all that speaks against it is another file within
};

// How much is tried.
enum class Effort {
    once,   // what others hold is left out
    seams,  // and the nearest places are tried
    near,   // and a little further on than where it broke
    far,    // and everywhere
};

struct JoinLimits {
    Effort effort = Effort::near;
    std::uint64_t most_split = 64;         // grains before the trouble at which it may be split
    std::uint64_t most_told_split = 4096;  // the same where the format tells how much is foreign
    std::size_t most_pieces = 64;
    // Bytes that all tries for one file may read: these, and as often what it says it has.
    std::uint64_t most_read = 256ULL << 20, most_read_again = 64;
    bool only_proven = false;  // takes nothing but what its content proves to its end
    Budget::Stop stop = {};

    static JoinLimits thorough() {
        JoinLimits limits;
        limits.effort = Effort::far;
        limits.most_split = 1024;
        limits.most_read = 2ULL << 30;
        limits.most_read_again = 1024;
        return limits;
    }
};

struct Joined {
    Measured measured;
    std::vector<Extent> pieces;  // on the ground, in content order; they reach to `measured.length`
    bool fits_exactly = false;   // it ends where what is left ends, and zeros fill its last grain
    bool is_whole = false;       // it may be taken for the whole file; else it only makes sense further than before
    // Its content shows it, up to its end.
    bool is_proven() const { return is_whole && measured.proof >= Proof::structure; }
};

// Bytes of its beginning that are taken for its own.
std::uint64_t own_part(const TornFile& file, std::uint64_t grain, Effort effort);

// Whether nothing but a length speaks for where the file ends, and against its lying in one piece what begins within.
bool is_only_sized(const TornFile& file, std::uint64_t grain);

// Nothing where no other place for the rest makes the file whole, or clearly better. `endings` are needed for files
// that are only sized, from Effort::near on.
std::optional<Joined> join(const Medium& ground, const Remains& remains, const TornFile& file, const JoinLimits& limits,
                           const Endings* endings = nullptr);

// The same file, whole, with its pieces meeting where others end and begin, as far as its content allows. Nothing where
// they do already. `remains`: without what others hold.
std::optional<Joined> align(const Medium& ground, const Remains& remains, const TornFile& file, const Joined& joined,
                            const JoinLimits& limits);

}  // namespace dredger
