// What a command's selection picks of a catalog, also by what the files contain and what they are like.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "cli/selection_options.h"
#include "preview/searching.h"
#include "preview/similar.h"

namespace dredger::cli {

struct Chosen {
    Selection selection;
    std::map<std::int64_t, preview::Passage> passages;  // with --contains: where the text stands, by candidate
    std::vector<Similar> similar;                       // with --similar: the likest first
    bool interrupted = false;                           // not all were looked into
};

// Reads the media, which are at `source` where that is not empty, only where --contains or --similar ask for it; shows
// progress, and tells on stderr how far it came where it is interrupted.
Result<Chosen> choose(Catalog& catalog, const SelectionOptions& options, const std::string& source);

// Of what is chosen the first ones only, where --limit says how many; `left` counts over several catalogs.
Result<void> keep_first(const Catalog& catalog, const SelectionOptions& options, Selection& selection,
                        std::uint64_t& left);

// Both, for commands that do something with the finds; an interruption is an error.
Result<Selection> choose_first(Catalog& catalog, const SelectionOptions& options, const std::string& source,
                               std::uint64_t& left);
// Of the only catalog.
Result<Selection> choose_first(Catalog& catalog, const SelectionOptions& options, const std::string& source);

}  // namespace dredger::cli
