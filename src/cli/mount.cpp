#include "mounting/mount.h"

#include <CLI/CLI.hpp>
#include <cstdio>
#include <filesystem>
#include <fmt/format.h>

#include "catalog/attaching.h"
#include "cli/chosen.h"
#include "cli/commands.h"
#include "cli/manner.h"
#include "cli/terminal.h"
#include "cli/word_options.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

namespace fs = std::filesystem;

struct Options {
    std::string catalog, place, source, layout = "tree", holes = "error";
    SelectionOptions selection;
    bool everybody = false, by_prospect = false;
};

Result<void> check_place(const fs::path& place) {
    std::error_code failed;
    if (!fs::is_directory(place, failed))
        return fail(ErrorKind::usage, "this is no folder", place.string(), "make one, or name another");
    if (!fs::is_empty(place, failed) || failed)
        return fail(ErrorKind::usage, "this folder is not empty: what is in it would be hidden", place.string(),
                    "make an empty one");
    return {};
}

int mount(const Options& options) {
    if (const auto good = check_place(options.place); !good) return report(good.error());
    auto catalog = open_catalog(options.catalog);
    if (!catalog) return report(catalog.error());
    auto selection = choose_first(*catalog, options.selection, options.source);
    if (!selection) return report(selection.error());
    // As for a restore: of what is gone another's bytes stand there.
    if (!options.selection.says_how_much_is_left()) selection->bands = {Band::sound, Band::patchy, Band::faint};
    const auto attached = attach(*catalog, {options.source, {}, false, false});
    if (!attached) return report(attached.error());
    for (const std::string& remark : attached->remarks) warn(remark);
    FindsFolder finds(*catalog, std::move(*selection), word_in<Arrangement>(options.layout, kArrangementWords),
                      options.by_prospect);
    if (const auto loaded = finds.load(); !loaded) return report(loaded.error());
    if (finds.files() == 0) return nothing_selected(options.catalog);
    const MountRequest request{options.place, word_in<Holes>(options.holes, kHolesWords), options.everybody};
    const auto served = serve_mounted(finds, attached->media, request, [&] {
        tell("{} mounted at {}, to be read only. Ctrl-C here, or:\n", counted(finds.files(), "find"), options.place);
        tell_next(fmt::format("fusermount3 -u {}", as_word(options.place)), "  ");
        (void)std::fflush(stdout);
    });
    if (!served) return report(served.error());
    return kDone;
}

}  // namespace

void add_mount(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("mount", "Show the finds as a folder that any program can read");
    auto options = std::make_shared<Options>();
    command->add_option("CATALOG", options->catalog, "made by dredger scan")->required();
    command->add_option("FOLDER", options->place, "an empty folder; the finds are seen there until it is unmounted")
        ->required();
    command->add_option("--layout", options->layout, "tree (default: the original folders), kind, date or flat")
        ->check(one_of(kArrangementWords));
    command
        ->add_option("--holes", options->holes,
                     "what can't be had of a file: error (default: reading it fails there), or zeros")
        ->check(one_of(kHolesWords));
    command->add_flag("--by-prospect", options->by_prospect,
                      "also a folder \"By prospect\", with links to the sound, patchy and faint finds");
    command->add_flag("--everybody", options->everybody,
                      "other users may look, too (needs user_allow_other in fuse.conf)");
    command->add_option("--source", options->source, "where the medium is now, if not where it was scanned")
        ->type_name("MEDIUM");
    options->selection.add_to(*command);
    command->footer(
        "Examples:\n"
        "  dredger mount card.dredge /mnt/finds\n"
        "  dredger mount office.dredge finds --kind document --prospect 60..\n"
        "\nContent comes straight from the medium; nothing is written anywhere. What is known of a find stands in its\n"
        "attributes: getfattr -d FILE.");
    command->callback([options, &exit_code] { exit_code = mount(*options); });
}

}  // namespace dredger::cli
