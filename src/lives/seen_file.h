// A file or folder as those see it who look for copies and their documents.
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "base/times.h"

namespace dredger::lives {

struct SeenFile {
    std::int64_t id = 0;
    std::int64_t volume = 0;
    std::string folder, name;
    std::string attributes;               // as JSON: "hidden" is looked for in it
    std::uint64_t size = 0;               // bytes
    std::optional<std::int64_t> created;  // seconds since 1970
    bool is_live = true;
    bool has_content = true;  // something of it is there
    bool is_folder = false;
    bool name_is_whole = true;
    std::string snapshot;                        // the name of the one that it is of; empty: of today
    std::optional<FileTime> snapshot_made = {};  // when that was
};

}  // namespace dredger::lives
