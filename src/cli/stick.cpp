// A rescue stick: made by stick/build from Debian's packages; here is what must not go wrong with it, whose drive it is
// written to.
#include <CLI/CLI.hpp>
#include <algorithm>
#include <cstdlib>
#include <fcntl.h>
#include <filesystem>
#include <fmt/format.h>
#include <iostream>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file_io.h"
#include "base/text.h"
#include "catalog/selection.h"
#include "cli/commands.h"
#include "cli/manner.h"
#include "cli/shipped.h"
#include "cli/terminal.h"
#include "cli/words.h"
#include "media/drives.h"
#include "media/file_medium.h"
#include "volumes/trace.h"

extern char** environ;

namespace dredger::cli {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kLeastStick = std::uint64_t{256} << 20;  // bytes

struct Options {
    std::string to, erase, size = "1G", packages;
};

fs::path default_cache() {
    const char* cache = std::getenv("XDG_CACHE_HOME");
    const char* home = std::getenv("HOME");
    const fs::path folder = cache != nullptr && *cache == '/' ? fs::path(cache)
                            : home != nullptr && *home == '/' ? fs::path(home) / ".cache"
                                                              : fs::temp_directory_path();
    return folder / "dredger" / "stick";
}

// Makes the image, of `size` bytes; 0: only as large as the system is. It tells itself what goes wrong.
int build_image(const fs::path& image, std::uint64_t size, const Options& options) {
    const fs::path builder = shipped({"../stick/build", "../../stick/build", "../share/dredger/stick/build"});
    if (builder.empty())
        return report({ErrorKind::unreadable, "what makes a stick is missing", "stick/build",
                       "it belongs beside the program: install the package anew"});
    std::error_code failed;
    const fs::path manual = shipped({"manual/man", "../manual/man", "../share/man/man1"});
    const fs::path cache = options.packages.empty() ? default_cache() : fs::path(options.packages);
    std::vector<std::string> words = {builder.string(), fs::read_symlink("/proc/self/exe", failed).string(),
                                      image.string(),   std::to_string(size),
                                      manual.string(),  cache.string()};
    std::vector<char*> arguments;
    for (std::string& word : words) arguments.push_back(word.data());
    arguments.push_back(nullptr);
    pid_t child = 0;
    if (::posix_spawn(&child, builder.c_str(), nullptr, nullptr, arguments.data(), environ) != 0)
        return report({ErrorKind::output, "what makes a stick can't be run", builder.string(), "is bash installed?"});
    int status = 0;
    while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
    }
    if (!WIFEXITED(status)) return kInterrupted;
    return WEXITSTATUS(status);
}

// What stands on a drive, for who is about to lose it.
void print_what_is_on(const Drive& drive) {
    fmt::print("{}: {}{}{}\n", drive.device, size_text(drive.size), drive.model.empty() ? "" : ", ",
               printable(drive.model));
    if (drive.partitions.empty()) fmt::print("  no partition and no file system is to be seen on it\n");
    for (const Partition& p : drive.partitions)
        fmt::print("  {}  {}  {}  {}\n", p.device, p.filesystem.empty() ? "unknown" : p.filesystem, printable(p.label),
                   size_text(p.size));
}

Result<Drive> drive_to_write(const std::string& device) {
    DREDGER_TRY(const auto drives, list_drives());
    const auto found =
        std::find_if(drives.begin(), drives.end(), [&](const Drive& drive) { return drive.device == device; });
    if (found == drives.end())
        return fail(ErrorKind::usage, "this is no whole drive", device, "dredger survey shows the drives");
    for (const Mount& mount : mounts_on_drive_of(device)) {
        if (mount.folder == "/" || mount.folder.starts_with("/boot"))
            return fail(ErrorKind::unsafe, "this machine runs from it", device, "take another drive");
        return fail(ErrorKind::unsafe, fmt::format("{} is mounted on {}", mount.device, mount.folder), device,
                    fmt::format("sudo umount {}", as_word(mount.folder)));
    }
    if (found->size < kLeastStick)
        return fail(ErrorKind::usage, fmt::format("it is too small, {}", size_text(found->size)), device,
                    "take one of 256 MiB or more");
    return *found;
}

bool begins_empty(const std::string& device) {
    const auto medium = FileMedium::open(device);
    const auto bytes = medium ? bytes_at(**medium, 0, 1 << 20) : std::nullopt;
    return bytes && std::all_of(bytes->begin(), bytes->end(), [](std::byte b) { return b == std::byte{0}; });
}

int write_to(const std::string& device, const fs::path& image) {
    const int from = ::open(image.c_str(), O_RDONLY | O_CLOEXEC);
    const int to = ::open(device.c_str(), O_WRONLY | O_EXCL | O_CLOEXEC);
    const auto failed = [&](const char* what) {
        const std::string why = std::generic_category().message(errno);
        if (from >= 0) ::close(from);
        if (to >= 0) ::close(to);
        return report({ErrorKind::output, fmt::format("{}: {}", what, why), device, "the stick is not finished"});
    };
    if (from < 0 || to < 0) return failed("it can't be opened for writing");
    ProgressLine line;
    Progress progress{"writing the stick", 0, fs::file_size(image), "bytes"};
    std::vector<std::byte> bytes(1 << 20);
    while (progress.done < progress.total) {
        const auto part = std::span(bytes).first(std::min<std::uint64_t>(bytes.size(), progress.total - progress.done));
        if (read_all(from, progress.done, part) != part.size()) return failed("the image can't be read");
        if (!write_all(to, progress.done, part)) return failed("it can't be written");
        progress.done += part.size();
        line.show(progress);
    }
    if (::fsync(to) != 0) return failed("it can't be written");
    line.clear();
    ::close(from);
    ::close(to);
    return kDone;
}

void say_how_to_start() {
    tell(
        "\nStart the computer from it: switch it on and press the key for its list of start devices (often F12, F10, "
        "F9, F8 or Esc; on a Mac the Alt key). Secure Boot can stay on.\n");
}

int make_on_drive(const Options& options) {
    const std::string device = options.erase.empty() ? options.to : options.erase;
    const auto drive = drive_to_write(device);
    if (!drive) return report(drive.error());
    print_what_is_on(*drive);
    if (options.erase.empty() && !(drive->removable && drive->partitions.empty() && begins_empty(device)))
        return report({ErrorKind::unsafe,
                       drive->removable ? "it is not empty" : "it is no removable drive, which could be anything",
                       device,
                       fmt::format("dredger stick --erase {} takes it, and all that is on it is lost", device)});
    if (!options.erase.empty()) {
        fmt::print("{}", styled(fmt::format("All of this is lost then. Type {} to go on: ", device), Style::bold));
        (void)std::fflush(stdout);
        std::string answer;
        std::getline(std::cin, answer);
        if (answer != device) {
            fmt::print("\nNothing was written.\n");
            return kRefused;
        }
    }
    std::error_code failed;
    const fs::path image = fs::temp_directory_path(failed) / fmt::format("dredger-stick-{}.img", ::getpid());
    int code = build_image(image, 0, options);
    if (code == kDone) code = write_to(device, image);
    fs::remove(image, failed);
    if (code != kDone) return code;
    tell("{} is a rescue stick. What is left of it becomes room for finds when it is started first.\n", device);
    say_how_to_start();
    return kDone;
}

int make_file(const Options& options) {
    const auto size = parse_sizes(options.size);
    if (!size || !size->from || size->from != size->to || *size->from <= 0)
        return report({ErrorKind::usage, "--size is no size", options.size, "write it like 1G or 2000M"});
    std::error_code failed;
    if (fs::exists(options.to, failed))
        return report({ErrorKind::output, "it is there already", options.to, "take another name, or remove it"});
    const fs::path folder = fs::absolute(options.to, failed).parent_path();
    if (::access(folder.c_str(), W_OK) != 0)
        return report({ErrorKind::output, "it can't be written there: " + std::generic_category().message(errno),
                       folder.string(), "give a folder that is there and yours"});
    if (const int code = build_image(options.to, static_cast<std::uint64_t>(*size->from), options); code != kDone) {
        fs::remove(options.to, failed);
        return code;
    }
    tell("{} is the image of a rescue stick, {}, with a part for what is found.\n", options.to,
         size_text(fs::file_size(options.to, failed)));
    tell("Write it to a stick of that size or more, where that part grows to all its room, or burn it to a disc.\n");
    say_how_to_start();
    return kDone;
}

int make(const Options& options) {
    if (options.to.empty() == options.erase.empty())
        return report({ErrorKind::usage, "nothing says where to", "",
                       "name a file or an empty stick with --to, or a drive with --erase"});
    std::error_code failed;
    return !options.erase.empty() || fs::is_block_file(options.to, failed) ? make_on_drive(options)
                                                                           : make_file(options);
}

}  // namespace

void add_stick(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("stick", "Make a rescue stick, to start a computer from");
    auto options = std::make_shared<Options>();
    command->add_option("--to", options->to, "image file to make, or a removable drive that is empty")
        ->type_name("WHERE");
    command->add_option("--erase", options->erase, "drive that becomes the stick; all that is on it is lost")
        ->type_name("DEVICE");
    command->add_option("--size", options->size, "of an image file (default 1G); what the system leaves is for finds")
        ->type_name("SIZE");
    command
        ->add_option("--packages", options->packages,
                     "folder with the Debian packages of kernel and boot loaders; what is missing is fetched into it")
        ->type_name("FOLDER");
    command->footer(
        "Examples:\n"
        "  dredger stick --to rescue.img\n"
        "  sudo dredger stick --erase /dev/sdX\n"
        "\nThe stick starts computers with BIOS and UEFI, Secure Boot left on, into dredger guide; there every drive "
        "is\n"
        "read-only but the one that is chosen for the finds. docs/rescue-stick.md tells it step by step.");
    command->callback([options, &exit_code] { exit_code = make(*options); });
}

}  // namespace dredger::cli
