#include "catalog/file_tree.h"

#include <map>
#include <set>

#include "base/text.h"

namespace dredger {
namespace {

// The names of one folder, in the order in which they are given: of those that differ in letter case alone, or not at
// all, all but the first are numbered.
class NamesOfFolder {
  public:
    std::string given_to(const std::string& name) {
        std::string given = name;
        for (unsigned number = 2; !taken_.insert(folded(given)).second; ++number) given = numbered_name(name, number);
        return given;
    }

  private:
    std::set<std::string> taken_;  // folded
};

}  // namespace

Result<std::vector<FileTree::Node>> FileTree::children(std::string_view folder) const {
    std::vector<Node> nodes;
    DREDGER_TRY(const auto recorded, recorded_path(folder));
    if (!recorded) return nodes;
    NamesOfFolder names;
    // Folders first, so that paths through them never depend on files beside them.
    std::map<std::string, std::int64_t> folders;
    DREDGER_TRY(const auto below, catalog_.folders_below(*recorded));
    for (const std::string& name : below) folders.emplace(name, 0);
    std::vector<Node> files;
    DREDGER_CHECK(catalog_.each_in_folder(selection_, *recorded, [&](const Candidate& c) {
        if (c.record.is_folder)
            folders[c.record.name] = c.id;
        else
            files.push_back({c.record.name, c.id, false});
        return true;
    }));
    for (const auto& [name, id] : folders) nodes.push_back({names.given_to(name), id, true});
    for (const Node& file : files) nodes.push_back({names.given_to(file.name), file.candidate, false});
    std::sort(nodes.begin(), nodes.end(), [](const Node& a, const Node& b) { return a.name < b.name; });
    return nodes;
}

Result<std::optional<FileTree::Node>> FileTree::lookup(std::string_view path) const {
    const auto [folder, name] = split_path(path);
    if (name.empty()) return std::optional(Node{"", 0, true});
    DREDGER_TRY(const auto nodes, children(folder));
    for (const Node& node : nodes)
        if (node.name == name) return std::optional(node);
    return std::nullopt;
}

// Folders of one name are one here: what differs in letter case alone is numbered behind the first.
Result<std::optional<std::string>> FileTree::recorded_path(std::string_view folder) const {
    std::string recorded;
    while (!folder.empty()) {
        const std::size_t end = std::min(folder.find('/'), folder.size());
        const std::string_view part = folder.substr(0, end);
        DREDGER_TRY(const auto below, catalog_.folders_below(recorded));
        NamesOfFolder names;
        std::optional<std::string> found;
        for (const std::string& name : below)
            if (names.given_to(name) == part) found = name;
        if (!found) return std::nullopt;
        recorded = joined(recorded, *found);
        folder.remove_prefix(std::min(end + 1, folder.size()));
    }
    return std::optional(recorded);
}

}  // namespace dredger
