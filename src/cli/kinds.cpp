#include <CLI/CLI.hpp>
#include <algorithm>
#include <fmt/format.h>
#include <set>

#include "catalog/selection.h"
#include "cli/commands.h"
#include "cli/json.h"
#include "cli/table.h"
#include "cli/terminal.h"
#include "cli/word_options.h"
#include "formats/own_formats.h"
#include "repairing/mending.h"

namespace dredger::cli {
namespace {

struct Options {
    std::string own_formats, kind, form = "table";
    bool json = false;

    bool is_table() const { return form == "table" && !json; }
};

std::string extensions_of(const Format& format) {
    constexpr std::size_t kShown = 4;
    std::vector<std::string_view> shown(
        format.extensions.begin(),
        format.extensions.begin() + static_cast<std::ptrdiff_t>(std::min(format.extensions.size(), kShown)));
    return fmt::format("{}{}", fmt::join(shown, " "), format.extensions.size() > kShown ? " ..." : "");
}

int print_kinds(const Options& options) {
    std::optional<OwnFormats> own;
    if (!options.own_formats.empty()) {
        auto read = OwnFormats::read(options.own_formats);
        if (!read) return report(read.error());
        own.emplace(std::move(*read));
    }
    std::set<Kind> kinds;
    if (!options.kind.empty()) {
        auto parsed = parse_kinds(options.kind);
        if (!parsed) return report(parsed.error());
        kinds = std::move(*parsed);
    }
    Table table({{"FORMAT"},
                 {.title = "KIND", .worth = 4},
                 {.title = "EXTENSIONS", .worth = 3},
                 {.title = "REPAIR", .worth = 2},
                 {.title = "WHERE IT ENDS", .worth = 1},
                 {"WHAT IS CHECKED"}});
    const auto add = [&](const Format& format) {
        const Format* teller = measurer_of(format);
        const repairing::Mender* mender = repairing::mender_of(format.name);
        if (!options.is_table()) {
            print_line({{"format", format.name},
                        {"kind", word_for(format.kind)},
                        {"extensions", format.extensions},
                        {"ending", teller != nullptr ? teller->ending : ""},
                        {"checked", teller != nullptr ? teller->checked : ""},
                        {"repaired", mender != nullptr ? mender->mends : ""}});
            return;
        }
        table.add({std::string(format.name), std::string(word_for(format.kind)), extensions_of(format),
                   mender != nullptr ? "yes" : "-",
                   teller != nullptr ? std::string(teller->ending) : "only a record tells",
                   teller != nullptr ? std::string(teller->checked) : "-"});
    };
    std::vector<const Format*> formats(all_formats().begin(), all_formats().end());
    if (own)
        for (const Format& format : own->formats()) formats.push_back(&format);
    std::stable_sort(formats.begin(), formats.end(),
                     [](const Format* a, const Format* b) { return a->kind < b->kind; });
    for (const Format* format : formats)
        if (kinds.empty() || kinds.contains(format->kind)) add(*format);
    if (options.is_table()) table.print();
    return kDone;
}

}  // namespace

void add_kinds(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("kinds", "List the formats that are known by their content");
    auto options = std::make_shared<Options>();
    command->add_option("--own-formats", options->own_formats, "also those of this TOML file")->type_name("FILE");
    command->add_option("--kind", options->kind, "only these kinds: picture,document ...")
        ->check(several_of(kKindWords));
    command->add_option("--as", options->form, "table (default), or jsonl with all extensions")
        ->check(CLI::IsMember({"table", "jsonl"}));
    command->add_flag("--json", options->json, "the same as --as jsonl");
    command->footer(
        "Examples:\n"
        "  dredger kinds --kind picture,video\n"
        "  dredger kinds --own-formats station-formats.toml\n");
    command->callback([options, &exit_code] { exit_code = print_kinds(*options); });
}

}  // namespace dredger::cli
