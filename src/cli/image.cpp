#include <CLI/CLI.hpp>
#include <fmt/format.h>

#include "cli/commands.h"
#include "cli/selection_options.h"
#include "cli/table.h"
#include "cli/terminal.h"
#include "cli/words.h"
#include "imaging/copy.h"
#include "imaging/image_file.h"
#include "media/drives.h"

namespace dredger::cli {
namespace {

struct Options {
    std::string source, file, split, range, block = "1M";
    unsigned retries = 0;
    double timeout = 60;
    bool reverse = false, no_hash = false, onto_same_drive = false;
};

Result<std::uint64_t> amount(const char* option, const std::string& text) {
    const auto range = parse_sizes(text);
    if (!range || !range->from || range->from != range->to || *range->from <= 0)
        return fail(ErrorKind::usage, fmt::format("{}: {} is no size", option, text), "", "write it like 4G or 700M");
    return static_cast<std::uint64_t>(*range->from);
}

Result<CopyRequest> request_for(const Options& options) {
    CopyRequest request;
    request.source = options.source;
    request.file = options.file;
    request.retries = options.retries;
    request.reverse = options.reverse;
    request.timeout = std::chrono::milliseconds(static_cast<std::int64_t>(options.timeout * 1000));
    request.hashes = !options.no_hash;
    request.onto_same_drive = options.onto_same_drive;
    constexpr std::uint64_t kMaxBlock = 256 << 20;
    DREDGER_TRY(request.block, amount("--block", options.block));
    if (request.block % 4096 != 0 || request.block > kMaxBlock)
        return fail(ErrorKind::usage, "--block must be a multiple of 4096 bytes, and not more than 256M");
    if (!options.split.empty()) {
        DREDGER_TRY(request.split, amount("--split", options.split));
        if (request.split % 4096 != 0) return fail(ErrorKind::usage, "--split must be a multiple of 4096 bytes");
    }
    if (!options.range.empty()) {
        DREDGER_TRY(const Range range, parse_sizes(options.range));
        request.range.offset = static_cast<std::uint64_t>(range.from.value_or(0));
        const std::uint64_t end = range.to ? static_cast<std::uint64_t>(*range.to) : ~std::uint64_t{0};
        if (end <= request.range.offset)
            return fail(ErrorKind::usage, fmt::format("--range: {} holds nothing", options.range), "",
                        "write it like 0..4G, or 700M..");
        request.range.length = end - request.range.offset;
    }
    return request;
}

int copy(const Options& options) {
    const auto request = request_for(options);
    if (!request) return report(request.error());
    for (const std::string& warning : warnings_of_writing(options.source)) warn(warning);
    catch_interrupts();
    TerminalObserver<Observer> observer;
    const auto done = copy_medium(*request, observer);
    observer.line().clear();
    if (!done) return report(done.error());

    const std::string image = ImageFile::first_part(request->file, request->split).string();
    fmt::print(
        "{}{}: {} of {} copied{}\n", options.source, done->was_resumed ? ", taken up again" : "",
        size_text(done->totals.of(AreaState::done)), size_text(done->size),
        done->copied < done->totals.of(AreaState::done) ? fmt::format(", {} of it now", size_text(done->copied)) : "");
    const std::uint64_t bad = done->totals.of(AreaState::bad),
                        later = done->totals.of(AreaState::left) + done->totals.of(AreaState::narrowed),
                        untried = done->totals.of(AreaState::untried);
    if (bad + later > 0)
        fmt::print("  {} can't be read, in {}{}\n", size_text(bad + later), counted(done->totals.bad_areas, "area"),
                   later > 0 ? fmt::format("; {} of it is still to be closed in on", size_text(later)) : "");
    if (untried > 0)
        fmt::print("  {} not asked for yet{}\n", size_text(untried),
                   done->stopped ? "" : ": the same command without --range goes on");
    if (!done->sha256.empty()) fmt::print("  SHA-256 of the image: {}\n", done->sha256);
    fmt::print("  {} says which areas are which; keep it beside the image\n", done->map.string());
    if (done->interrupted) {
        fmt::print(stderr, "dredger: interrupted: run the same command again to go on\n");
        return kInterrupted;
    }
    if (done->stopped) {
        const int code = report(*done->stopped);
        return done->copied > 0 ? kDoneInPart : code;
    }
    fmt::print("\n");
    if (bad > 0)
        fmt::print(
            "To ask once more for what is bad: the same command with --retries 3, as long as the medium bears it.\n");
    fmt::print("Next: dredger scan {} -c NAME.dredge\n", image);
    return done->totals.not_done() > 0 ? kDoneInPart : kDone;
}

}  // namespace

void add_image(CLI::App& program, int& exit_code) {
    CLI::App* command =
        program.add_subcommand("image", "Copy a medium that may be failing, its good areas first, with a map");
    auto options = std::make_shared<Options>();
    command->add_option("SOURCE", options->source, "device or image of any kind")->required();
    command->add_option("FILE", options->file, "the copy; its map is FILE.areas.json")->required();
    command->add_option("--split", options->split, "in parts of this size, FILE.001, FILE.002 ...: 4000M");
    command->add_option("--range", options->range, "only these bytes of the medium: 0..4G, 700M..");
    command->add_option("--retries", options->retries,
                        "ask for the bad sectors so many times more; by turns backwards");
    command->add_flag("--reverse", options->reverse, "begin at the end");
    command->add_flag("--no-hash", options->no_hash, "leave out the SHA-256 of the image");
    command->add_option("--block", options->block, "of a large read (default 1M)");
    command->add_option("--timeout", options->timeout, "seconds after which a read that hangs is given up (default 60)")
        ->check(CLI::Range(0.1, 3600.0));
    command->add_flag("--onto-same-drive", options->onto_same_drive,
                      "allow an image on the drive that is read; it may overwrite what is looked for");
    command->footer(
        "Examples:\n"
        "  dredger image /dev/sdc nest-card.img\n"
        "  dredger image /dev/sdc nest-card.img --retries 3 --reverse\n"
        "  dredger image laptop.vhdx laptop.img --split 4000M\n"
        "\nFirst large reads, leaving each area at its first error; then what was left, from both its ends; then "
        "single\n"
        "sectors; then the bad ones again as often as --retries says. Run again, it goes on where it was. All "
        "commands\n"
        "take the image together with its map. docs/failing-media.md says when to stop touching a drive.");
    command->callback([options, &exit_code] { exit_code = copy(*options); });
}

}  // namespace dredger::cli
