// The options of the selection grammar, alike for every command that takes a selection.
#pragma once

#include <CLI/CLI.hpp>
#include <string>

#include "catalog/catalog.h"

namespace dredger::cli {

struct SelectionOptions {
    std::string state, origin, kind, format, ext, size, ids, modified, created, deleted, prospect, check, picks;
    std::vector<std::string> names, folders;

    void add_to(CLI::App& command);
    // What the words mean for one catalog; an error names the option that is off.
    Result<Selection> selection_for(const Catalog& catalog) const;
    // Whether anything narrows the selection.
    bool is_narrowed() const;
};

}  // namespace dredger::cli
