#include "cli/this_machine.h"

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <fmt/format.h>
#include <set>
#include <sys/stat.h>
#include <unistd.h>

#include "base/beneath.h"
#include "base/shell_word.h"
#include "base/text.h"
#include "cli/surveyed.h"
#include "cli/terminal.h"
#include "cli/words.h"
#include "media/drives.h"

namespace dredger::cli {
namespace {

namespace fs = std::filesystem;
using guiding::Patient;
using guiding::Place;

constexpr std::chrono::seconds kLook{10};  // at one drive

// Looks for a while, and with progress.
class Glance final : public TerminalObserver<Observer> {
  public:
    bool should_stop() override { return is_interrupted() || std::chrono::steady_clock::now() > until_; }

  private:
    std::chrono::steady_clock::time_point until_ = std::chrono::steady_clock::now() + kLook;
};

std::string volume_text(const std::string& filesystem, const std::string& label, std::uint64_t size,
                        const std::string& where) {
    std::string text = fmt::format("{} {}", where, filesystem.empty() ? "of an unknown kind" : filesystem);
    if (!label.empty()) text += fmt::format(" \"{}\"", label);
    return fmt::format("{}, {}", text, size_text(size));
}

// What stands on the medium, as far as a glance tells.
void look(Patient& patient) {
    const auto opened = open_medium(patient.path);
    if (!opened) return;
    Glance glance;
    const auto found = look_at(*opened, patient.path, glance);
    glance.line().clear();
    if (!found || !*found) return;
    const Surveyed& surveyed = **found;
    patient.holds.clear();
    for (const SurveyedVolume& volume : surveyed.volumes)
        patient.holds.push_back(
            volume_text(volume.filesystem, volume.label, volume.length,
                        fmt::format("{} {}:", volume.is_lost ? "lost volume" : "volume", volume.number)));
    for (const Finding& finding : surveyed.findings)
        if (finding.tells_of_bin) patient.holds.push_back(finding.sentence);
    if (patient.what.empty()) patient.what = fmt::format("{}, {}", surveyed.form, size_text(surveyed.size));
}

Patient described(const Drive& drive) {
    Patient patient;
    patient.path = drive.device;
    patient.what = size_text(drive.size);
    if (drive.removable) patient.what += ", removable";
    if (!drive.model.empty()) patient.what += ", " + drive.model;
    for (const Partition& p : drive.partitions)
        patient.holds.push_back(volume_text(p.filesystem, p.label, p.size, p.device + ":"));
    patient.is_readable = ::access(drive.device.c_str(), R_OK) == 0;
    for (const Mount& mount : mounts_on_drive_of(drive.device))
        patient.runs_this_system = patient.runs_this_system || mount.folder == "/";
    patient.written = warnings_of_writing(drive.device);
    if (!patient.is_readable) return patient;
    const DriveHealth health = ask_for_health(drive.device);
    patient.is_failing = health.verdict == DriveHealth::Verdict::failing;
    if (health.verdict >= DriveHealth::Verdict::worn) patient.health = health.sentences;
    // Each look at a failing drive may be its last.
    if (!patient.is_failing) look(patient);
    return patient;
}

// A loop device or disc that the running system itself is read from.
bool is_of_the_system(const Drive& drive) {
    return std::any_of(drive.partitions.begin(), drive.partitions.end(),
                       [](const Partition& p) { return p.filesystem == "squashfs" && !p.mount_points.empty(); });
}

Result<Place> checked(const std::string& folder, std::string what, const std::string& source) {
    if (const std::string danger = source.empty() ? "" : writing_endangers(folder, source); !danger.empty())
        return fail(ErrorKind::unsafe, danger, folder, "choose a folder on another drive");
    const fs::path existing = nearest_existing(folder);
    if (::access(existing.c_str(), W_OK) != 0)
        return fail(ErrorKind::output, "you may not write there", existing.string(), "choose another folder");
    std::error_code failed;
    return Place{fs::absolute(folder, failed).lexically_normal(), {}, std::move(what), dredger::room_in(existing)};
}

}  // namespace

bool ThisMachine::is_left_out(const Drive& drive) const {
    return std::find(left_out_.begin(), left_out_.end(), drive.device) != left_out_.end();
}

std::vector<Patient> ThisMachine::patients() {
    std::vector<Patient> found;
    const auto drives = list_drives();
    if (!drives) return found;
    std::error_code failed;
    for (const Drive& drive : *drives) {
        if (!is_left_out(drive) && !is_of_the_system(drive) && fs::exists(drive.device, failed))
            found.push_back(described(drive));
    }
    return found;
}

Result<Patient> ThisMachine::patient(const std::string& path) {
    if (const auto drives = list_drives(); drives)
        for (const Drive& drive : *drives)
            if (drive.device == path) return described(drive);
    // It may go on from another folder.
    std::error_code failed;
    Patient patient;
    patient.path = fs::absolute(path, failed).lexically_normal().string();
    if (auto opened = open_medium(path); !opened) return tl::unexpected(opened.error());
    patient.written = warnings_of_writing(path);
    look(patient);
    return patient;
}

std::vector<Place> ThisMachine::places(const std::string& source) {
    std::vector<Place> found;
    std::set<fs::path> seen;
    const auto add = [&](const std::string& folder, std::string what) {
        if (!seen.insert(fs::path(folder).lexically_normal()).second) return;
        if (auto place = checked(folder, std::move(what), source)) found.push_back(std::move(*place));
    };
    for (const std::string& folder : offered_) add(folder, "");
    for (const WritablePlace& place : writable_places())
        if (place.folder.find("/.") == std::string::npos)
            add(place.folder, fmt::format("{}, {}", place.device, place.filesystem));
    if (const char* home = std::getenv("HOME"); home != nullptr && *home == '/' && !attaches()) add(home, "");
    if (!attaches()) return found;
    const auto drives = list_drives();
    if (!drives) return found;
    for (const Drive& drive : *drives) {
        // Nothing on the patient's drive is made writable, not even beside the part that lost the files.
        if (is_on(drive, source) || is_left_out(drive)) continue;
        for (const Partition& p : drive.partitions)
            if (p.mount_points.empty() && !p.filesystem.empty())
                found.push_back({{}, p.device, volume_text(p.filesystem, p.label, p.size, "not mounted:"), 0});
    }
    return found;
}

Result<Place> ThisMachine::place(const std::string& folder, const std::string& source) {
    return checked(folder, "", source);
}

Result<Place> ThisMachine::attach(const std::string& device_or_share, const std::string& source) {
    // It may ask for a password: it has the terminal.
    FILE* pipe = ::popen(fmt::format("{} {}", as_word(attacher_), as_word(device_or_share)).c_str(), "r");
    if (pipe == nullptr) return fail(ErrorKind::output, "it can't be attached", device_or_share);
    std::string folder;
    for (int c = 0; (c = std::fgetc(pipe)) != EOF && c != '\n';) folder += static_cast<char>(c);
    if (::pclose(pipe) != 0 || folder.empty())
        return fail(ErrorKind::output, "it can't be attached", device_or_share, "choose another place");
    offered_.push_back(folder);
    return checked(folder, "", source);
}

std::uint64_t ThisMachine::room_in(const fs::path& folder) { return dredger::room_in(nearest_existing(folder)); }

}  // namespace dredger::cli
