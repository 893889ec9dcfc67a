// Parts of content, as runs of bytes: for sums over all of it.
#pragma once

#include <algorithm>

#include "formats/reader.h"

namespace dredger::formats {

// Hands [at, at + length) over as spans, up to where the content ends or can't be read.
template <class Visit>
void each_span(Reader& content, std::uint64_t at, std::uint64_t length, const Visit& visit) {
    while (length > 0) {
        auto here = content.some(at);
        if (here.empty()) return;
        here = here.first(static_cast<std::size_t>(std::min<std::uint64_t>(here.size(), length)));
        visit(here);
        at += here.size();
        length -= here.size();
    }
}

}  // namespace dredger::formats
