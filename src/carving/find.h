// A file that was found by what it is.
#pragma once

#include <optional>
#include <set>
#include <vector>

#include "base/digest.h"
#include "formats/format.h"
#include "media/content.h"

namespace dredger {

struct Find {
    const Format* format = nullptr;  // the finer one
    std::vector<Extent> pieces;      // on the medium, in content order
    std::uint64_t size = 0;          // bytes
    Measured measured;
    Description said;
    unsigned bits = 0;                       // of evidence at its start
    std::optional<Fingerprint> fingerprint;  // of its content, where that is not long
    bool is_cut_off = false;                 // by the end of the ground
    bool is_followed = false;                // by something else in its last sector, which drivers fill with zeros
    bool is_padded = false;  // its last sector is filled with zeros behind its end, or it ends with a sector

    // That its parts follow one upon the other up to its end is all that holds it together.
    bool is_held_by_parts() const { return measured.is_whole() && measured.proof == Proof::chain; }
};

// The format that was measured is `format`, what it found `measured`, of content that lies in `pieces` of the ground
// and is cut to what was measured. `read` reads that ground, `ground` tells where it lies on the medium.
Find find_of(const Format& format, const Measured& measured, const std::vector<Extent>& pieces, const MediumPtr& read,
             const Content& ground, const Budget::Stop& stop);

// The format that content of `measured` is of.
const Format* finer_format(const Format& format, const Measured& measured);

// Programs, archives and disks: whole files lie in them.
bool keeps_others(const Format& format);

// Where the parts of content begin, as far as its format tells.
std::set<std::uint64_t> starts_of_parts(const Format& format, const Medium& content);

// What a clear beginning is worth when nothing behind it makes sense: with other content behind it, it may be a file.
// `reach`: bytes behind which another file begins.
Measured only_a_head(std::uint64_t reach);

// Where the sector ends in which the byte before `at` lies.
std::uint64_t sector_end(std::uint64_t at);

// Whether the sector goes on behind an end with something else than zeros.
bool is_followed(const Medium& ground, std::uint64_t end);

// Zeros behind an end that is none itself.
bool is_padded(const Medium& ground, const Extent& last_piece);

}  // namespace dredger
