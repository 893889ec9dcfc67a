// A rescue under way: its answers, in a file beside what it found, so that it can go on another day.
//
// In its folder: rescue.json (the answers), finds.dredge (the catalog), picks.csv (what was chosen), files/ (what was
// restored), report/, commands.txt (what was run, to learn from and to prove).
#pragma once

#include <filesystem>
#include <optional>

#include "base/error.h"
#include "guiding/wanted.h"

namespace dredger::guiding {

struct Rescue {
    std::string source;  // what is read: the patient, or its copy once that is there
    std::string patient;
    Wanted wanted;
    std::filesystem::path folder;  // empty: not chosen yet
    std::string begun;             // "2026-12-01 14:05"
    bool has_searched = false;     // the whole surface
    bool is_done = false;

    std::filesystem::path catalog() const { return folder / "finds.dredge"; }
    std::filesystem::path picks() const { return folder / "picks.csv"; }
    std::filesystem::path files() const { return folder / "files"; }
    std::filesystem::path report() const { return folder / "report"; }
    std::filesystem::path copy() const { return folder / "copy.img"; }
    std::filesystem::path commands() const { return folder / "commands.txt"; }

    // Chooses and makes a new folder below `place`, named after the patient and the day.
    Result<void> settle(const std::filesystem::path& place);
    Result<void> save() const;
    // Adds a line to commands.txt; a rescue that has no folder keeps none.
    void remember(const std::string& command) const;
};

// Nothing where there is none, or none that can be understood.
std::optional<Rescue> read_rescue(const std::filesystem::path& folder);
// Those in folders of these places that did not come to their end, the last one first.
std::vector<Rescue> unfinished_in(const std::vector<std::filesystem::path>& places);

}  // namespace dredger::guiding
