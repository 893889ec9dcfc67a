// Runs a job on hostile content in a process of its own, with bounds on memory and time: whatever a decoder does there,
// the program goes on.
#pragma once

#include <functional>
#include <optional>
#include <string>

namespace dredger::preview {

struct SandboxLimits {
    std::uint64_t memory = std::uint64_t{1} << 30;  // bytes of address space beyond what is in use
    unsigned seconds = 20;                          // of computing, and three times that of waiting
};

// What the job returns; none where it crashed or met a limit. The job may write files; it must not touch the catalog.
std::optional<std::string> run_apart(const std::function<std::string()>& job, const SandboxLimits& limits = {});

}  // namespace dredger::preview
