// What a drive says of its own health, by smartmontools where that is installed.
#pragma once

#include <filesystem>
#include <string>
#include <string_view>
#include <vector>

namespace dredger {

struct DriveHealth {
    enum class Verdict {
        unknown,  // it does not say, or nobody here can ask it
        fine,
        worn,     // it has lost places, and goes on
        failing,  // it says so itself, or loses data now
    };
    Verdict verdict = Verdict::unknown;
    std::vector<std::string> sentences;  // what it says and what to do; empty where it is unknown
};

// Of what `smartctl --json` printed: attributes 5, 187, 197 and 198 of ATA drives, the health log of NVMe ones, and the
// drive's own verdict.
DriveHealth health_in(std::string_view json);

// Asks the device by `program`, looked for on the PATH and where root's programs are; unknown after ten seconds.
DriveHealth ask_for_health(const std::filesystem::path& device, const std::string& program = "smartctl");

}  // namespace dredger
