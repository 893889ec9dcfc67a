// What content itself says of its prospect: of a find that no record tells of, and of a record whose content was
// checked.
#pragma once

#include "formats/format.h"
#include "ranking/prospect.h"

namespace dredger {

struct ContentEvidence {
    Measured measured;
    std::uint64_t size = 0;  // bytes that are listed
    std::size_t pieces = 1;
    bool is_padded = false;    // nothing but zeros behind its end
    std::string_view format;   // name
    bool is_followed = false;  // by something else than zeros, which may be its own
};

// Of a find by signature.
Prospect judge_content(const ContentEvidence& evidence);

// Adds to the prospect of a record what its content, laid out as the record says, shows.
void add_content(Prospect& prospect, const ContentEvidence& evidence, std::uint64_t record_size);

// Of so many stored bytes, as many agree with the checksums that the file system kept of them.
void add_sums(Prospect& prospect, std::uint64_t agreeing, std::uint64_t stored);

// Other content stands where the record's should be, from byte `from` of its `size` on.
void add_foreign_content(Prospect& prospect, std::string_view format, std::uint64_t from, std::uint64_t size);

}  // namespace dredger
