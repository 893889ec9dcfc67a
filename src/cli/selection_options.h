// The options of the selection grammar, alike for every command that takes a selection.
#pragma once

#include <CLI/CLI.hpp>
#include <optional>
#include <string>

#include "catalog/catalog.h"

namespace dredger::cli {

// For CLI11: whether `parse` takes an option's text, and else what it says.
template <class Parse>
auto taken_by(Parse parse) {
    return [parse](const std::string& text) {
        const auto parsed = parse(text);
        return parsed ? std::string() : parsed.error().line();
    };
}

inline constexpr const char* kSelectionGroup = "Selection";

struct SelectionOptions {
    std::string state, origin, kind, role, format, ext, size, ids, modified, created, deleted, prospect, band, check,
        picks, as_of;
    std::string sent;
    std::vector<std::string> names, folders, volumes, media, senders, recipients, subjects;
    std::optional<std::int64_t> in;
    std::string contains, sort;
    std::optional<std::int64_t> similar;
    std::optional<std::uint64_t> limit;
    bool housekeeping = false;
    // Of several catalogs an ID may be one's and not the other's.
    bool has_several_catalogs = false;

    // Whether the order shows in what the command prints; else --sort says only what --limit takes.
    enum class Sorts { rows, only_a_limit };
    void add_to(CLI::App& command, Sorts sorts = Sorts::only_a_limit);
    // The order of --sort, which add_to() checked.
    Order order() const;
    // Whether content must be read to tell what is selected.
    bool reads_content() const { return !contains.empty() || similar; }
    // Options that say nothing together are a mistake of who typed them.
    Result<void> check_together() const;
    // What the words mean for one catalog; an error names the option that is off.
    Result<Selection> selection_for(const Catalog& catalog) const;
    // Whether anything narrows the selection.
    bool is_narrowed() const;
    // Whether it says itself how much must be left of a find, or names finds one by one.
    bool says_how_much_is_left() const;

  private:
    Sorts sorts_ = Sorts::only_a_limit;
};

// The catalog of this name; NAME stands for NAME.dredge. From then on the log may be written, if it harms no medium of
// the catalog.
Result<Catalog> open_catalog(const std::string& name);

// Tells on stderr that a selection holds nothing; the command's exit code.
int nothing_selected(const std::string& catalog);

}  // namespace dredger::cli
