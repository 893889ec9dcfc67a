// What a scan is asked for.
#pragma once

#include <filesystem>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "base/text.h"
#include "catalog/selection.h"
#include "formats/format.h"
#include "lives/habit.h"

namespace dredger {

// How much is tried to put torn files together.
enum class JoinEffort { off, quick, thorough };
inline constexpr std::string_view kJoinEffortWords[] = {"off", "quick", "thorough"};
inline std::string_view word_for(JoinEffort effort) { return kJoinEffortWords[static_cast<std::size_t>(effort)]; }

struct ScanRequest {
    std::filesystem::path source;
    std::set<unsigned> volumes;  // by number; empty: all
    // What is kept of the files that are not live; empty: everything. Live ones are always kept: they tell who
    // overwrote what.
    std::string folder;  // original folder; what lies below it counts too; letter case ignored
    std::set<Kind> kinds;
    std::vector<std::string> extensions;   // lower case
    CodePage code_page = CodePage::cp850;  // of short names

    bool snapshots = true;       // also files of which only a snapshot tells
    bool mail = false;           // also what lies in the mail stores that are found
    bool again = false;          // what could not be read by an earlier scan is asked for once more
    bool verify = false;         // the contents of what records tell of are read and checked
    bool deep = false;           // also the content: the surface is searched, and what records tell is checked
    bool whole_surface = false;  // not only what the space maps call free
    bool every_offset = false;   // look for content not only where sectors begin
    bool inside = false;         // also within files that were found whole
    JoinEffort join = JoinEffort::quick;
    std::vector<std::string> formats = {};      // names; empty: all
    std::vector<const Format*> further = {};    // the user's own formats
    std::vector<lives::Habit> own_habits = {};  // how copies are named that the user knows of
    std::optional<Selection> until = {};        // the deep scan ends when so many of these are found
    std::uint64_t until_count = 1;
};

}  // namespace dredger
