// By what a medium is known again, so that nothing is restored from another one.
#pragma once

#include <string>
#include <vector>

#include "media/opened.h"

namespace dredger {

struct Identity {
    std::uint64_t size = 0;            // bytes
    std::string serial;                // of a drive that tells one, else empty
    std::vector<std::string> samples;  // SHA-256 of blocks spread evenly over the medium, in order; empty: unreadable
};

Result<Identity> identify(const OpenedMedium& opened);

struct Comparison {
    bool same = false;    // the medium that was scanned
    std::string finding;  // in words; empty where nothing differs
};

// The same medium may have changed a little since: up to a quarter of its sampled blocks may differ.
Comparison compare(const Identity& scanned, const Identity& now);

}  // namespace dredger
