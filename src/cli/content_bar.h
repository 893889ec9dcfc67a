// A file from its start to its end as one line of cells that say what became of each part.
#pragma once

#include <string>
#include <vector>

#include "catalog/catalog.h"
#include "media/coverage.h"

namespace dredger::cli {

enum class Part { free, claimed, taken, zeros, hole, unreadable };

// What became of each of `cells` equal parts of the content; the worst of what lies in it.
// `bad`: what of the medium can't be read.
std::vector<Part> parts_of(const Candidate& candidate, const std::vector<Catalog::Overlap>& overlaps,
                           const Coverage& bad, std::size_t cells);

// The bar, and a line that tells what the cells that occur mean.
std::string content_bar(const std::vector<Part>& parts);

}  // namespace dredger::cli
