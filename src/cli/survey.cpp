#include <CLI/CLI.hpp>
#include <fmt/format.h>

#include "bins/contents.h"
#include "cli/commands.h"
#include "cli/table.h"
#include "cli/terminal.h"
#include "cli/words.h"
#include "filesystems/filesystem.h"
#include "media/drive_health.h"
#include "media/drives.h"
#include "media/opened.h"
#include "scanning/volumes_of.h"
#include "volumes/containers.h"
#include "volumes/mapping.h"
#include "volumes/shadow.h"

namespace dredger::cli {
namespace {

void print_health(const std::string& device, const DriveHealth& health) {
    const Style style = health.verdict == DriveHealth::Verdict::failing ? Style::bad : Style::bold;
    for (const std::string& sentence : health.sentences)
        fmt::print("{}\n", styled(wrapped(fmt::format("{}: {}", device, sentence), width_of_stdout(), 2), style));
}

int survey_machine() {
    const auto drives = list_drives();
    if (!drives) return report(drives.error());
    if (drives->empty()) {
        fmt::print("No drive is attached. Attach one, or survey an image file: dredger survey FILE\n");
        return kDone;
    }
    Table table({{"DEVICE"}, {"SIZE", Table::Align::right}, {"FILE SYSTEM"}, {"LABEL"}, {"MOUNTED"}, {"WHAT"}});
    bool writable = false;
    for (const Drive& drive : *drives) {
        std::string what = drive.model.empty() ? "drive" : drive.model;
        if (!drive.serial.empty()) what += ", serial " + drive.serial;
        if (drive.removable) what += ", removable";
        const bool whole = drive.partitions.size() == 1 && drive.partitions.front().device == drive.device;
        const Partition* only = whole ? &drive.partitions.front() : nullptr;
        const auto mounted = [](const Partition& p) {
            return p.mount_points.empty() ? std::string("-") : p.mount_points.front();
        };
        table.add({drive.device, size_text(drive.size), only != nullptr ? only->filesystem : "",
                   only != nullptr ? printable(only->label) : "", only != nullptr ? mounted(*only) : "", what});
        if (only != nullptr) writable = writable || (only->writable && drive.removable);
        if (whole) continue;
        for (const Partition& p : drive.partitions) {
            table.add({"  " + p.device, size_text(p.size), p.filesystem, printable(p.label), mounted(p), "partition"});
            writable = writable || (p.writable && drive.removable);
        }
    }
    table.print();
    for (const Drive& drive : *drives)
        if (const DriveHealth health = ask_for_health(drive.device); health.verdict >= DriveHealth::Verdict::worn)
            print_health(drive.device, health);
    fmt::print(
        "\nNext: dredger survey DEVICE shows the volumes of one of them, dredger scan DEVICE -c NAME.dredge looks for\n"
        "deleted files. Unmount the drive first, so that nothing is written to it meanwhile.\n");
    if (writable)
        warn(
            "a removable drive is mounted for writing; sudo umount MOUNTPOINT keeps its deleted files from being "
            "overwritten");
    return kDone;
}

// "Volume 1 keeps 2 snapshots: ..."; empty where it keeps none.
std::string snapshots_text(const Volume& volume, const FileSystem& filesystem) {
    constexpr std::size_t kShown = 5;
    std::vector<std::string> shown;
    std::size_t count = 0;
    for (const FileRoot& root : filesystem.roots()) {
        if (!root.is_snapshot || ++count > kShown) continue;
        shown.push_back(printable(root.label) + (root.made ? fmt::format(" ({})", time_text(*root.made)) : ""));
    }
    if (count == 0) return {};
    if (count > kShown) shown.push_back(fmt::format("{} more", count - kShown));
    return fmt::format("Volume {} keeps {}: {}", volume.number, counted(count, "snapshot"), fmt::join(shown, ", "));
}

std::string shadows_text(const Volume& volume, const ShadowCopies& shadows) {
    if (shadows.copies.empty()) return {};
    std::vector<std::string> times;
    for (const ShadowCopy& copy : shadows.copies) times.push_back(time_text(copy.made));
    return fmt::format("Volume {} keeps {} of itself: {}", volume.number,
                       counted(times.size(), "shadow copy", "shadow copies"), fmt::join(times, ", "));
}

std::string_view words_of(TableKind table) {
    switch (table) {
        case TableKind::gpt: return "GPT partition table";
        case TableKind::apm: return "Apple partition map";
        case TableKind::mbr: return "MBR partition table";
        default: return "no partition table";
    }
}

int survey_source(const std::string& source) {
    const auto opened_source = open_medium(source);
    if (!opened_source) return report(opened_source.error());
    const MediumPtr& medium = opened_source->medium;
    catch_interrupts();
    TerminalObserver<Observer> observer;
    auto found = VolumesOfMedium::find(medium, observer);
    observer.line().clear();
    if (!found) return report(found.error());
    if (!*found) return kInterrupted;
    const PartitionMap* map = &(*found)->map();

    const std::string_view table_words = words_of(map->table);
    fmt::print("{}: {}, {}, {}\n\n", source, printable(opened_source->form), size_text(medium->size()), table_words);
    Table table({{"VOLUME", Table::Align::right},
                 {"START", Table::Align::right},
                 {"SIZE", Table::Align::right},
                 {"FILE SYSTEM"},
                 {"LABEL"},
                 {"USED", Table::Align::right},
                 {"CLUSTER", Table::Align::right},
                 {"TABLE SAYS"}});
    std::vector<std::string> warnings = opened_source->remarks;
    warnings.insert(warnings.end(), map->warnings.begin(), map->warnings.end());
    std::vector<std::string> kept;  // what is still there for the taking
    std::size_t readable = 0;
    bool any_known = false;
    std::vector<std::string> lost;
    for (const Volume& volume : map->volumes) {
        const auto window = open_volume(medium, volume);
        // What a container holds is seen through it.
        const auto opened =
            volume.is_container() ? Result<std::shared_ptr<const FileSystem>>(nullptr) : (*found)->filesystem(volume);
        const bool is_lost = volume.table == TableKind::lost;
        std::string says = is_lost               ? "nothing: lost"
                           : volume.name.empty() ? volume.type
                                                 : fmt::format("{}, {}", volume.type, volume.name);
        if (is_lost)
            lost.push_back(fmt::format("Volume {} is lost: no table tells of it; {}", volume.number, volume.evidence));
        if (!opened) {
            warnings.push_back(fmt::format("volume {}: {}", volume.number, opened.error().line()));
        } else if (*opened) {
            ++readable;
            const VolumeFacts& facts = (*opened)->facts();
            const std::uint64_t clusters = (*opened)->space().units() * facts.cluster_size;
            const std::uint64_t percent = clusters == 0 ? 0 : facts.used * 100 / clusters;
            const std::string used = fmt::format("{} ({} %)", size_text(facts.used),
                                                 percent == 0 && facts.used > 0 ? "<1" : std::to_string(percent));
            table.add({std::to_string(volume.number), count_text(volume.offset), size_text(volume.length),
                       facts.filesystem, facts.label.empty() ? "-" : printable(facts.label), used,
                       size_text(facts.cluster_size), says});
            for (const auto& former : former_filesystems(window, **opened))
                lost.push_back(fmt::format("Volume {} was formatted: folders or records of a former {} still stand",
                                           volume.number, former->facts().filesystem));
            if (const BinContents contents = look_into_bins(window, **opened); !contents.empty())
                kept.push_back(fmt::format("In the bin of volume {}: {}", volume.number, bin_text(contents)));
            if (std::string sentence = snapshots_text(volume, **opened); !sentence.empty())
                kept.push_back(std::move(sentence));
            const ShadowCopies shadows = find_shadow_copies(*window);
            if (std::string sentence = shadows_text(volume, shadows); !sentence.empty())
                kept.push_back(std::move(sentence));
            for (const std::string& warning : shadows.warnings)
                warnings.push_back(fmt::format("volume {}: {}", volume.number, warning));
            for (const std::string& warning : facts.warnings)
                warnings.push_back(fmt::format("volume {}: {}", volume.number, warning));
            continue;
        }
        if (!volume.holds.empty()) {
            any_known = true;
            table.add({std::to_string(volume.number), count_text(volume.offset), size_text(volume.length),
                       printable(volume.holds), "-", "-", "-", says});
            continue;
        }
        const Recognised other =
            opened_source->is_raw() ? recognise(source, volume.offset, volume.length) : Recognised();
        any_known = any_known || !other.filesystem.empty();
        const std::string& filesystem = is_lost ? volume.type : other.filesystem;
        const std::string& label = is_lost ? volume.name : other.label;
        const std::string name = filesystem.empty() ? "not recognised" : filesystem + " (not readable yet)";
        table.add({std::to_string(volume.number), count_text(volume.offset), size_text(volume.length), name,
                   label.empty() ? "-" : printable(label), "-", "-", says});
    }
    if (table.empty())
        fmt::print("The partition table has no entries.\n");
    else
        table.print();
    const DriveHealth health = opened_source->is_device ? ask_for_health(source) : DriveHealth();
    if (!warnings.empty() || !kept.empty() || !lost.empty() || !health.sentences.empty()) fmt::print("\n");
    print_health(source, health);
    for (const std::string& sentence : lost)
        fmt::print("{}\n", styled(wrapped(sentence, width_of_stdout(), 2), Style::bold));
    for (const std::string& sentence : kept)
        fmt::print("{}\n", styled(wrapped(sentence, width_of_stdout(), 2), Style::bold));
    for (const std::string& warning : warnings) fmt::print("Note: {}\n", warning);
    if (!opened_source->snapshots.empty())
        fmt::print("It keeps earlier states, read as {}@NAME: {}\n", source,
                   printable(fmt::format("{}", fmt::join(opened_source->snapshots, ", "))));
    for (const Mount& mount : mounts_on_drive_of(source))
        fmt::print("Note: {} is mounted on {}{}\n", mount.device, mount.folder,
                   mount.writable ? fmt::format(" for writing; sudo umount {} keeps it as it is", mount.folder)
                                  : ", read-only");
    if (readable == 0) {
        fmt::print("\nNo volume has a file system that this version reads.\n");
        return any_known ? kDone : kSource;
    }
    fmt::print("\nNext: dredger scan {} -c NAME.dredge\n", source);
    return kDone;
}

}  // namespace

void add_survey(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("survey", "Show drives, partitions and volumes, and what to do next");
    auto sources = std::make_shared<std::vector<std::string>>();
    command->add_option("SOURCE", *sources, "device, or image of any kind; without it all drives of this machine");
    command->footer(
        "Examples:\n"
        "  dredger survey                     every drive and card of this machine\n"
        "  dredger survey /dev/sdc nest.img   the volumes of a card and of an image");
    command->callback([sources, &exit_code] {
        if (sources->empty()) exit_code = survey_machine();
        for (const std::string& source : *sources) {
            if (&source != &sources->front()) fmt::print("\n");
            if (const int code = survey_source(source); code != kDone) exit_code = code;
        }
    });
}

}  // namespace dredger::cli
