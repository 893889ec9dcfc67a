// Runs a job on hostile content in a process of its own, which is confined (preview/confinement.h): whatever a decoder
// does there, the program goes on. The process has no medium, no catalog and no destination: content comes to it
// through its tie, and what it found goes back there.
#pragma once

#include <functional>
#include <optional>
#include <string>

#include "media/medium.h"
#include "preview/confinement.h"

namespace dredger::preview {

// Looks at the content that it is given, and only at that.
using ConfinedJob = std::function<std::string(const Medium& content)>;

// What the job returns, up to 16 MiB; none where it crashed or met a limit.
std::optional<std::string> run_apart(const Medium& content, const ConfinedJob& job, const SandboxLimits& limits = {});

}  // namespace dredger::preview
