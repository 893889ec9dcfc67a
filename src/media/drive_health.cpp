#include "media/drive_health.h"

#include <array>
#include <chrono>
#include <cstdlib>
#include <fcntl.h>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <poll.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/amounts.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using json = nlohmann::json;

constexpr std::chrono::seconds kPatience{10};
constexpr std::size_t kMostOutput = 4 << 20;  // bytes

std::uint64_t number(const json& from, const char* pointer) {
    const json::json_pointer place(pointer);
    return from.contains(place) && from[place].is_number_unsigned() ? from[place].get<std::uint64_t>() : 0;
}

// Raw values of ATA attributes ("SMART Attribute Descriptions", T13/e05148r0).
std::uint64_t attribute(const json& from, unsigned id) {
    const json::json_pointer table("/ata_smart_attributes/table");
    if (!from.contains(table) || !from[table].is_array()) return 0;
    for (const json& row : from[table])
        // The upper bytes of a raw value are the vendor's own.
        if (row.is_object() && number(row, "/id") == id) return number(row, "/raw/value") & 0xFFFFFFFF;
    return 0;
}

fs::path found_program(const std::string& name) {
    std::string folders = "/usr/sbin:/usr/local/sbin:/sbin";
    if (const char* path = std::getenv("PATH"); path != nullptr) folders = std::string(path) + ":" + folders;
    for (std::size_t at = 0; at <= folders.size();) {
        const std::size_t end = std::min(folders.find(':', at), folders.size());
        const fs::path file = fs::path(folders.substr(at, end - at)) / name;
        if (file.is_absolute() && ::access(file.c_str(), X_OK) == 0) return file;
        at = end + 1;
    }
    return {};
}

// What it printed; empty where it took too long.
std::string printed_by(const fs::path& program, const std::vector<std::string>& words) {
    std::array<int, 2> ends{};
    if (::pipe2(ends.data(), O_CLOEXEC) != 0) return {};
    std::vector<std::string> kept = words;
    kept.insert(kept.begin(), program.string());
    std::vector<char*> arguments;
    for (std::string& word : kept) arguments.push_back(word.data());
    arguments.push_back(nullptr);
    posix_spawn_file_actions_t actions;
    ::posix_spawn_file_actions_init(&actions);
    ::posix_spawn_file_actions_addopen(&actions, STDIN_FILENO, "/dev/null", O_RDONLY, 0);
    ::posix_spawn_file_actions_adddup2(&actions, ends[1], STDOUT_FILENO);
    ::posix_spawn_file_actions_addopen(&actions, STDERR_FILENO, "/dev/null", O_WRONLY, 0);
    pid_t child = 0;
    const int failed = ::posix_spawn(&child, program.c_str(), &actions, nullptr, arguments.data(), environ);
    ::posix_spawn_file_actions_destroy(&actions);
    ::close(ends[1]);
    std::string text;
    bool in_time = failed == 0;
    const auto until = std::chrono::steady_clock::now() + kPatience;
    while (in_time) {
        const auto left =
            std::chrono::duration_cast<std::chrono::milliseconds>(until - std::chrono::steady_clock::now()).count();
        pollfd wait{ends[0], POLLIN, 0};
        in_time = left > 0 && ::poll(&wait, 1, static_cast<int>(left)) > 0;
        if (!in_time) break;
        std::array<char, 4096> some{};
        const auto came = ::read(ends[0], some.data(), some.size());
        if (came <= 0 || text.size() > kMostOutput) break;
        text.append(some.data(), static_cast<std::size_t>(came));
    }
    ::close(ends[0]);
    if (failed != 0) return {};
    if (!in_time) ::kill(child, SIGKILL);
    ::waitpid(child, nullptr, 0);
    return in_time ? text : std::string();
}

}  // namespace

DriveHealth health_in(std::string_view text) {
    const json from = json::parse(text, nullptr, false);
    DriveHealth health;
    if (!from.is_object()) return health;
    const json::json_pointer passed("/smart_status/passed");
    if (!from.contains(passed) || !from[passed].is_boolean()) return health;

    std::vector<std::string> losses;
    const auto count = [&](std::uint64_t value, const char* of) {
        if (value > 0) losses.push_back(fmt::format("{} {}", count_text(value), of));
        return value > 0;
    };
    const bool moved = count(attribute(from, 5), "sectors moved to spare places");
    const bool pending = count(attribute(from, 197), "sectors that it can't read and waits to give up");
    const bool uncorrectable = count(attribute(from, 198), "sectors that could not be corrected");
    const bool reported = count(attribute(from, 187), "reads that it had to report as failed");
    const bool media_errors = count(number(from, "/nvme_smart_health_information_log/media_errors"),
                                    "reads or writes that its memory failed");
    const bool warns = number(from, "/nvme_smart_health_information_log/critical_warning") > 0;
    const std::uint64_t hours = number(from, "/power_on_time/hours");

    const bool loses_now = pending || uncorrectable || reported || media_errors;
    const bool says_so = !from[passed].get<bool>() || warns;
    health.verdict = says_so || loses_now ? DriveHealth::Verdict::failing
                     : moved              ? DriveHealth::Verdict::worn
                                          : DriveHealth::Verdict::fine;

    std::string says = health.verdict == DriveHealth::Verdict::fine   ? "The drive calls itself healthy"
                       : health.verdict == DriveHealth::Verdict::worn ? "The drive is worn"
                       : says_so                                      ? "The drive says itself that it is failing"
                                                                      : "The drive is losing data";
    if (!losses.empty()) says += fmt::format(": {}", fmt::join(losses, ", "));
    if (hours > 0) says += fmt::format(" ({} hours in use)", count_text(hours));
    health.sentences.push_back(says + ".");
    if (health.verdict == DriveHealth::Verdict::failing)
        health.sentences.emplace_back(
            "Copy it before anything else (dredger image), or, where what is on it is worth a laboratory, switch it "
            "off "
            "and leave it off.");
    return health;
}

DriveHealth ask_for_health(const fs::path& device, const std::string& program) {
    const fs::path file = found_program(program);
    if (file.empty()) return {};
    return health_in(printed_by(file, {"--json=c", "--info", "--health", "--attributes", device.string()}));
}

}  // namespace dredger
