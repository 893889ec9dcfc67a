#include <CLI/CLI.hpp>
#include <fmt/format.h>
#include <unistd.h>

#include "base/text.h"
#include "cli/commands.h"
#include "cli/json.h"
#include "cli/manner.h"
#include "cli/surveyed.h"
#include "cli/table.h"
#include "cli/terminal.h"
#include "cli/words.h"
#include "media/drives.h"

namespace dredger::cli {
namespace {

void print_health(const std::string& device, const DriveHealth& health) {
    const Style style = health.verdict == DriveHealth::Verdict::failing ? Style::poor : Style::bold;
    for (const std::string& sentence : health.sentences)
        fmt::print("{}\n", styled(wrapped(fmt::format("{}: {}", device, sentence), width_of_stdout(), 2), style));
}

// What stands between a drive and its scan: rights, and who writes to it.
std::string what_a_scan_needs(const std::string& device, const std::vector<std::string>& mount_points, bool writable) {
    std::vector<std::string> needs;
    if (writable && !mount_points.empty())
        needs.push_back(fmt::format("sudo umount {}", as_word(mount_points.front())));
    if (::access(device.c_str(), R_OK) != 0) needs.emplace_back("root: sudo dredger ...");
    return needs.empty() ? "nothing" : fmt::format("{}", fmt::join(needs, ", then "));
}

Json told(const Drive& drive) {
    Json partitions = Json::array();
    for (const Partition& p : drive.partitions)
        partitions.push_back({{"device", p.device},
                              {"offset", p.offset},
                              {"size", p.size},
                              {"filesystem", p.filesystem},
                              {"label", p.label},
                              {"mount_points", p.mount_points},
                              {"writable", p.writable},
                              {"scan_needs", what_a_scan_needs(p.device, p.mount_points, p.writable)}});
    return {{"device", drive.device},
            {"model", drive.model},
            {"serial", drive.serial},
            {"size", drive.size},
            {"removable", drive.removable},
            {"rotating", drive.rotating},
            {"partitions", std::move(partitions)}};
}

int survey_machine(bool as_json) {
    const auto drives = list_drives();
    if (!drives) return report(drives.error());
    if (as_json) {
        Json all = Json::array();
        for (const Drive& drive : *drives) all.push_back(told(drive));
        print_document({{"drives", std::move(all)}});
        return kDone;
    }
    if (drives->empty()) {
        fmt::print("No drive is attached. Attach one, or survey an image file: dredger survey FILE\n");
        return kDone;
    }
    Table table({{"DEVICE"},
                 {"SIZE", Table::Align::right},
                 {.title = "FILE SYSTEM", .worth = 5},
                 {.title = "LABEL", .worth = 4},
                 {.title = "MOUNTED", .worth = 2},
                 {.title = "A SCAN NEEDS", .worth = 6},
                 {"WHAT"}});
    bool writable = false;
    for (const Drive& drive : *drives) {
        std::string what = drive.model.empty() ? "drive" : drive.model;
        if (!drive.serial.empty()) what += ", serial " + drive.serial;
        if (drive.removable) what += ", removable";
        const bool whole = drive.partitions.size() == 1 && drive.partitions.front().device == drive.device;
        const auto add = [&](const std::string& device, const Partition& p, std::uint64_t size, std::string says) {
            table.add({device, size_text(size), p.filesystem, printable(p.label),
                       p.mount_points.empty() ? "-" : printable(p.mount_points.front()),
                       what_a_scan_needs(p.device, p.mount_points, p.writable), std::move(says)});
            writable = writable || (p.writable && drive.removable);
        };
        if (whole) {
            add(drive.device, drive.partitions.front(), drive.size, what);
            continue;
        }
        table.add({drive.device, size_text(drive.size), "", "", "", what_a_scan_needs(drive.device, {}, false), what});
        for (const Partition& p : drive.partitions) add("  " + p.device, p, p.size, "partition");
    }
    table.print();
    for (const Drive& drive : *drives)
        if (const DriveHealth health = ask_for_health(drive.device); health.verdict >= DriveHealth::Verdict::worn)
            print_health(drive.device, health);
    tell(
        "\nNext: dredger survey {} shows what is on it; dredger scan {} looks for deleted files.\n"
        "Unmount a drive first, so that nothing is written to it meanwhile.\n",
        drives->front().device, drives->front().device);
    if (writable)
        warn(
            "a removable drive is mounted for writing; sudo umount MOUNTPOINT keeps its deleted files from being "
            "overwritten");
    return kDone;
}

void print_json(const Surveyed& surveyed) {
    Json volumes = Json::array();
    for (const SurveyedVolume& v : surveyed.volumes)
        volumes.push_back({{"number", v.number},
                           {"offset", v.offset},
                           {"size", v.length},
                           {"filesystem", v.filesystem.empty() ? Json(nullptr) : Json(v.filesystem)},
                           {"readable", v.is_readable},
                           {"label", v.label},
                           {"used", v.used ? Json(*v.used) : Json(nullptr)},
                           {"cluster_size", v.cluster_size ? Json(*v.cluster_size) : Json(nullptr)},
                           {"lost", v.is_lost},
                           {"formerly", v.formerly},
                           {"table_says", v.table_says}});
    Json findings = Json::array();
    for (const Finding& f : surveyed.findings) findings.push_back({{"what", f.sentence}, {"next", f.next}});
    print_document({{"source", surveyed.source},
                    {"form", surveyed.form},
                    {"size", surveyed.size},
                    {"table", surveyed.table},
                    {"volumes", std::move(volumes)},
                    {"findings", std::move(findings)},
                    {"health", surveyed.health.sentences},
                    {"warnings", surveyed.warnings},
                    {"snapshots", surveyed.snapshots},
                    {"next", surveyed.next}});
}

Table table_of(const Surveyed& surveyed) {
    Table table({{"VOLUME", Table::Align::right},
                 {.title = "START", .align = Table::Align::right, .worth = 2},
                 {"SIZE", Table::Align::right},
                 {"FILE SYSTEM"},
                 {.title = "LABEL", .worth = 5},
                 {.title = "USED", .align = Table::Align::right, .worth = 3},
                 {.title = "CLUSTER", .align = Table::Align::right, .worth = 1},
                 {.title = "TABLE SAYS", .worth = 4}});
    for (const SurveyedVolume& v : surveyed.volumes) {
        std::string filesystem = v.filesystem.empty() ? "not recognised" : printable(v.filesystem);
        if (!v.is_readable && !v.filesystem.empty() && surveyed.is_recognised && !v.is_lost)
            filesystem += " (not read)";
        if (!v.formerly.empty()) filesystem += fmt::format(" (was formatted: {})", fmt::join(v.formerly, ", "));
        std::string used = "-";
        if (v.used && v.length > 0) {
            const std::uint64_t percent = *v.used * 100 / v.length;
            used = fmt::format("{} ({} %)", size_text(*v.used),
                               percent == 0 && *v.used > 0 ? "<1" : std::to_string(percent));
        }
        table.add({std::to_string(v.number), count_text(v.offset), size_text(v.length), filesystem,
                   v.label.empty() ? "-" : printable(v.label), used, v.cluster_size ? size_text(*v.cluster_size) : "-",
                   v.table_says});
    }
    return table;
}

int survey_source(const std::string& source, bool as_json) {
    const auto opened = open_medium(source, Folders::as_archive);
    if (!opened) return report(opened.error());
    if (const auto logged = open_log(opened->files); !logged) return report(logged.error());
    catch_interrupts();
    TerminalObserver<Observer> observer;
    const auto found = look_at(*opened, source, observer);
    observer.line().clear();
    if (!found) return report(found.error());
    if (!*found) return kInterrupted;
    const Surveyed& surveyed = **found;
    const int code = surveyed.is_readable || surveyed.is_recognised ? kDone : kSource;
    if (as_json) {
        print_json(surveyed);
        return code;
    }
    fmt::print("{}: {}, {}, {}\n\n", printable(source), printable(surveyed.form), size_text(surveyed.size),
               surveyed.table);
    if (surveyed.volumes.empty())
        fmt::print("The partition table has no entries.\n");
    else
        table_of(surveyed).print();
    const std::size_t width = width_of_stdout();
    if (!surveyed.health.sentences.empty()) fmt::print("\n");
    print_health(source, surveyed.health);
    for (const Finding& f : surveyed.findings) {
        fmt::print("\n{}\n", styled(wrapped(f.sentence, width, 2), Style::bold));
        if (!f.next.empty()) tell_next(f.next, "  ");
    }
    std::vector<std::string> notes = surveyed.warnings;
    for (const Mount& mount : mounts_on_drive_of(source))
        notes.push_back(fmt::format(
            "{} is mounted on {}{}", mount.device, mount.folder,
            mount.writable ? fmt::format(" for writing; sudo umount {} keeps it as it is", as_word(mount.folder))
                           : ", read-only"));
    if (!surveyed.snapshots.empty())
        notes.push_back(fmt::format("it keeps earlier states, read as {}@NAME: {}", source,
                                    printable(fmt::format("{}", fmt::join(surveyed.snapshots, ", ")))));
    if (!notes.empty()) fmt::print("\n");
    for (const std::string& sentence : notes) fmt::print("{}\n", wrapped("Note: " + sentence, width, 6));
    if (!surveyed.is_readable) {
        tell("\nNo volume has a file system that this version reads. What content tells is found all the same.\n");
        tell_next("dredger scan --deep " + as_word(source));
        return code;
    }
    tell("\n");
    tell_next(surveyed.next);
    return kDone;
}

}  // namespace

void add_survey(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("survey", "Show drives, partitions and volumes, and what to do next");
    struct Options {
        std::vector<std::string> sources;
        bool json = false;
    };
    auto options = std::make_shared<Options>();
    command->add_option("SOURCE", options->sources,
                        "device, or image of any kind; without it all drives of this machine");
    command->add_flag("--json", options->json, "as JSON (docs/json.md)");
    command->footer(
        "Examples:\n"
        "  dredger survey                     every drive and card of this machine\n"
        "  dredger survey /dev/sdc nest.img   the volumes of a card and of an image");
    command->callback([options, &exit_code] {
        if (options->sources.empty()) exit_code = survey_machine(options->json);
        for (const std::string& source : options->sources) {
            if (&source != &options->sources.front()) fmt::print("\n");
            if (const int code = survey_source(source, options->json); code != kDone) exit_code = code;
        }
    });
}

}  // namespace dredger::cli
