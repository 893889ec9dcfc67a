// What a look at a medium tells before it is scanned: its volumes, what is odd about them, what is there for the
// taking, and which command is next for each.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/observer.h"
#include "filesystems/filesystem.h"
#include "media/drive_health.h"
#include "media/opened.h"

namespace dredger::cli {

struct SurveyedVolume {
    unsigned number = 0;
    std::uint64_t offset = 0, length = 0;  // bytes
    bool is_lost = false;                  // no table tells of it
    std::string filesystem;                // or what a container holds; empty: not recognised
    bool is_readable = false;              // by this program
    std::string label;
    std::optional<std::uint64_t> used, cluster_size;  // bytes
    std::string table_says;
    std::vector<std::string> formerly;  // file systems that it was formatted from
};

// A sentence on what was found, and the command that makes something of it.
struct Finding {
    std::string sentence;
    std::string next;  // to paste; empty: none
    bool tells_of_bin = false;
};

struct Surveyed {
    std::string source, form, table;
    std::uint64_t size = 0;  // bytes
    std::vector<SurveyedVolume> volumes;
    std::vector<Finding> findings;
    std::vector<std::string> warnings;
    std::vector<std::string> snapshots;  // earlier states that the image keeps
    DriveHealth health;
    std::string next;            // the scan of all
    bool is_readable = false;    // a volume is
    bool is_recognised = false;  // at least what it holds is known
};

// Nothing where the observer stopped it.
Result<std::optional<Surveyed>> look_at(const OpenedMedium& opened, const std::string& source, Observer& observer);

}  // namespace dredger::cli
