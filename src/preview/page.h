// The page to look through and pick from: one file that needs no network and runs nothing that came from the medium.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "catalog/candidate.h"
#include "preview/tile.h"

namespace dredger::preview {

struct Shown {
    Candidate candidate;
    Tile tile;
};

// `catalog`: the name by which a pick list refers to it.
std::string page_of(const std::vector<Shown>& shown, const std::string& catalog);

}  // namespace dredger::preview
