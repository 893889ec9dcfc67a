#include "catalog/file_tree.h"

#include <fmt/format.h>
#include <map>
#include <set>

#include "base/text.h"

namespace dredger {
namespace {

// "terns (2).csv"
std::string numbered(const std::string& name, unsigned number) {
    const std::size_t dot = name.rfind('.');
    const bool has_extension = dot != std::string::npos && dot > 0;
    const std::string stem = has_extension ? name.substr(0, dot) : name;
    return fmt::format("{} ({}){}", stem, number, has_extension ? name.substr(dot) : "");
}

}  // namespace

Result<std::vector<FileTree::Node>> FileTree::children(std::string_view folder) const {
    std::vector<Node> nodes;
    DREDGER_TRY(const auto recorded, recorded_path(folder));
    if (!recorded) return nodes;
    std::set<std::string> taken;  // folded
    const auto add = [&](Node node) {
        const std::string wanted = node.name;
        for (unsigned number = 2; !taken.insert(folded(node.name)).second; ++number)
            node.name = numbered(wanted, number);
        nodes.push_back(std::move(node));
    };
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
    for (const auto& [name, id] : folders) add({name, id, true});
    for (Node& file : files) add(std::move(file));
    std::sort(nodes.begin(), nodes.end(), [](const Node& a, const Node& b) { return a.name < b.name; });
    return nodes;
}

Result<std::optional<FileTree::Node>> FileTree::lookup(std::string_view path) const {
    const std::size_t slash = path.rfind('/');
    const std::string_view folder = slash == std::string_view::npos ? std::string_view() : path.substr(0, slash);
    const std::string_view name = slash == std::string_view::npos ? path : path.substr(slash + 1);
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
        DREDGER_TRY(const auto names, catalog_.folders_below(recorded));
        std::set<std::string> taken;
        std::optional<std::string> found;
        for (const std::string& name : names) {
            std::string shown = name;
            for (unsigned number = 2; !taken.insert(folded(shown)).second; ++number) shown = numbered(name, number);
            if (shown == part) found = name;
        }
        if (!found) return std::nullopt;
        recorded = joined(recorded, *found);
        folder.remove_prefix(std::min(end + 1, folder.size()));
    }
    return std::optional(recorded);
}

}  // namespace dredger
