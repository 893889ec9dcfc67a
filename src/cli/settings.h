// What a technician wants of every run, from a file: config.toml in the folder dredger of the user's configuration
// (XDG Base Directory Specification), or the file that DREDGER_CONFIG names.
#pragma once

#include "base/error.h"
#include "cli/manner.h"

namespace dredger::cli {

// color = "auto" | "always" | "never", pager = true | false, utc = true | false. What the command line says goes before
// it; without a file all stays as it is.
Result<void> take_settings(Manner& manner);

}  // namespace dredger::cli
