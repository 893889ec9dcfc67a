// Which other finds are like a given one: pictures that look alike, copies, and versions of the same document.
#pragma once

#include <map>

#include "base/observer.h"
#include "catalog/catalog.h"

namespace dredger {

struct Similar {
    std::int64_t candidate = 0;
    unsigned rank = 0;  // 0: the same content; the higher, the less like it
    std::string why;
};

// Among the selected, the likest first. Pictures that were not looked at yet are, and what they look like is kept in
// the catalog. `media`: by volume. Interrupted by the observer, it answers with what is known so far.
Result<std::vector<Similar>> similar_to(Catalog& catalog, const std::map<std::int64_t, MediumPtr>& media,
                                        const Candidate& wanted, const Selection& among, Observer& observer);

}  // namespace dredger
