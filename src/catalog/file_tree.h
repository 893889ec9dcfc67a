// The finds of a catalog as folders and files with unique names, as a file system would show them.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "catalog/catalog.h"

namespace dredger {

class FileTree {
  public:
    struct Node {
        std::string name;            // unique in its folder, letter case aside
        std::int64_t candidate = 0;  // 0: a folder that is known only as one above others
        bool is_folder = false;
    };

    // Of what is selected. The catalog outlives it.
    explicit FileTree(const Catalog& catalog, Selection selection = {})
        : catalog_(catalog), selection_(std::move(selection)) {}

    // What a folder holds, by name; empty: the root. Where two have one name, the better one has it, and the others are
    // numbered: "terns (2).csv".
    Result<std::vector<Node>> children(std::string_view folder) const;

    // What stands at a path as children() name it; nothing where nothing does.
    Result<std::optional<Node>> lookup(std::string_view path) const;

  private:
    // The folder's path as the records have it, for one as children() name it; none where there is no such folder.
    Result<std::optional<std::string>> recorded_path(std::string_view folder) const;

    const Catalog& catalog_;
    Selection selection_;
};

}  // namespace dredger
