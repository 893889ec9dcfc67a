// Where restored files land: their folders, their names, and what happens where two want the same place.
#pragma once

#include <map>
#include <optional>

#include "restoring/manifest.h"
#include "restoring/names.h"
#include "restoring/outcome.h"
#include "restoring/pattern.h"

namespace dredger {

enum class Arrangement {
    tree,  // the original folders
    kind,  // a folder for each kind, and in it for each format
    date,  // a folder for each year, and in it for each month: taken, or last changed
    flat,  // one folder
};
inline constexpr std::string_view kArrangementWords[] = {"tree", "kind", "date", "flat"};

enum class IfExists {
    number,   // "NAME (2).EXT"
    skip,     // the first one stays
    replace,  // what was there before this run goes; within a run they are numbered
    newer,    // the one that was changed last
    best,     // the one that came back best; the same content once
};
inline constexpr std::string_view kIfExistsWords[] = {"number", "skip", "replace", "newer", "keep-best"};

// How well a file came back: the better one is greater.
struct Standing {
    int outcome = 0;  // whole over doubtful over partial
    int check = 0;    // verified over plausible over unknown over damaged
    int prospect = 0;
    std::uint64_t bytes = 0;  // that were had
    auto operator<=>(const Standing&) const = default;
};

Standing standing_of(Outcome outcome, Check check, int prospect, std::uint64_t bytes);

// A file that is ready to be put in its place.
struct Arrival {
    std::string catalog;  // file name
    std::int64_t id = 0;
    std::filesystem::path wanted;  // below the destination
    std::optional<FileTime> modified;
    std::string sum;
    Standing standing;
    std::filesystem::path staged;  // where its content stands until then; empty: nowhere
};

struct Landed {
    enum class How { free, numbered, replacing, refused } how = How::free;
    std::filesystem::path place;  // below the destination; of what stays, where it is refused
    std::string why;              // of refused
    // The restored file that has to go for it: by its row in the manifest.
    std::optional<std::pair<std::string, std::int64_t>> loser;
};

class Landing {
  public:
    // `folder` is the destination; what `manifest` has put there is known. `was_cut_off`: an earlier run into it was.
    Landing(std::filesystem::path folder, NameRules rules, IfExists if_exists, const Manifest* manifest,
            bool was_cut_off = false);

    // Where a file would like to go. `said` where the arrangement or the pattern asks for it.
    static std::filesystem::path wanted(const NameFacts& facts, Arrangement arrangement, const Pattern* pattern,
                                        const NameRules& rules);

    // Where a folder goes: where a file has its name, a numbered one stands for it, with all that lies in it.
    std::filesystem::path folder_for(const std::filesystem::path& wanted);
    // Makes it, below the destination, with those above it.
    std::error_code make_folder(const std::filesystem::path& place);
    // Where a file goes. From then on the place is taken.
    Landed settle(Arrival arrival);
    // Whether it is known without its content that it would be refused; the reason, or nothing.
    std::string refusal(const std::filesystem::path& wanted) const;

  private:
    struct Taken {
        std::string catalog;
        std::int64_t id = 0;
        std::optional<FileTime> modified;
        std::string sum;
        Standing standing;
        bool of_this_run = false;
    };
    bool is_taken(const std::filesystem::path& place) const;
    bool is_file(const std::filesystem::path& place) const;
    std::filesystem::path numbered(const std::filesystem::path& wanted) const;
    Landed take(Landed::How how, const std::filesystem::path& place, const Arrival& arrival);
    Landed settle_newer(const Arrival& arrival, const Taken* known);
    Landed settle_best(const Arrival& arrival, const Taken* known);

    std::filesystem::path folder_;
    NameRules rules_;
    IfExists if_exists_;
    bool was_cut_off_;
    std::map<std::string, Taken> taken_;  // by path_key
    std::map<std::string, bool> made_;    // folders that are there now; whether they were not before
    std::map<std::filesystem::path, std::filesystem::path> folders_;  // those that were asked for, and where they are
};

}  // namespace dredger
