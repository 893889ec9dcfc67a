// From what names, places and content say to the role of each file: which document a copy is of, among those that are
// there.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <set>
#include <unordered_map>

#include "lives/habit.h"
#include "lives/kinship.h"
#include "lives/seen_file.h"

namespace dredger::lives {

// The files of a medium are shown to it twice: in a second round it knows which of them can be documents of which
// copies, and need not hold the others.
class RoleFinder {
  public:
    // The content of a file; null where it can't be had. May be asked for the same one again.
    using Contents = std::function<std::unique_ptr<Medium>(std::int64_t id)>;

    RoleFinder(const Habits& habits, Contents contents) : habits_(habits), contents_(std::move(contents)) {}

    void look_for_copies(const SeenFile& file);
    void look_for_documents(const SeenFile& file);

    std::size_t copies() const { return claims_.size(); }
    // By file. `go_on` is asked before each; false ends it, and nothing is known.
    std::map<std::int64_t, SafetyCopy> roles(const std::function<bool(std::size_t done)>& go_on);

  private:
    struct Claimed {
        SeenFile file;
        Claim claim;
        ToldByContent told;
    };
    using Documents = std::vector<const SeenFile*>;
    struct Found {
        std::string path;
        std::string how;  // for the sentence; empty: by its name
    };

    bool take_snapshot_file(const SeenFile& file);
    void take_claim(const SeenFile& file, Claim&& claim);
    void look_for_hidden(const SeenFile& file);
    void find_hidden(std::map<std::int64_t, SafetyCopy>& roles) const;
    std::optional<SafetyCopy> role_of(const Claimed& claimed);
    Documents named_by(const Claimed& claimed) const;
    Documents named_at_its_place(const Claimed& claimed, const std::string& key) const;
    Found nearest(const Claimed& claimed, Documents documents);
    std::optional<Found> kin_of(const Claimed& claimed);
    // Of these, in their order, the share of the copy that stands in each; empty where the copy can't be read.
    std::vector<double> shares_of(const Claimed& claimed, const Documents& documents);
    const Sketch& sketch_of_file(std::int64_t id);

    const Habits& habits_;
    Contents contents_;
    std::vector<Claimed> claims_;  // of a file those first that say most
    std::set<std::int64_t> claimed_;
    std::set<std::string> wanted_keys_;     // of names, stems and tails
    std::set<std::string> wanted_folders_;  // in which any document may be the one
    bool wants_anywhere_ = false;           // so may documents of any folder
    std::vector<std::unique_ptr<SeenFile>> documents_;
    std::unordered_map<std::string, Documents> by_key_, by_folder_;
    Documents anywhere_;
    std::map<std::int64_t, Sketch> sketches_;
    std::vector<SeenFile> hidden_;
    std::set<std::string> shortcuts_;  // paths without ".lnk", as keys
};

}  // namespace dredger::lives
