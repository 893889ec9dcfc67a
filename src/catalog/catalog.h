// The catalog: a SQLite database in which a scan keeps all it found. docs/catalog.md describes the tables.
#pragma once

#include <filesystem>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>

#include "base/file_lock.h"
#include "catalog/candidate.h"
#include "catalog/grouping.h"
#include "catalog/order.h"
#include "catalog/schema.h"
#include "catalog/selection.h"
#include "catalog/sqlite.h"

namespace dredger {

class Catalog {
  public:
    static constexpr int kVersion = kCatalogVersion;

    // For a scan: made where there is none.
    static Result<Catalog> open_for_scan(const std::filesystem::path& path);
    // For everything after the scan; works while a scan writes.
    static Result<Catalog> open(const std::filesystem::path& path);

    const std::filesystem::path& path() const { return path_; }
    // Names this catalog among all others, wherever it is copied to.
    Result<std::string> uuid() const;

    Result<std::vector<ScannedSource>> sources() const;
    Result<std::vector<ScannedVolume>> volumes() const;
    Result<std::int64_t> add_source(const ScannedSource& source);
    // The areas of a source that could not be read, in order, so that they are not asked for again.
    Result<std::vector<Extent>> bad_areas(std::int64_t source) const;
    Result<void> save_bad_areas(std::int64_t source, const std::vector<Extent>& areas);
    Result<std::int64_t> add_volume(const ScannedVolume& volume);
    Result<void> finish_volume(const ScannedVolume& volume);
    // How far the deep scan of a volume is; none where it has not begun.
    Result<std::optional<Sweep>> sweep_of(std::int64_t volume) const;
    Result<void> save_sweep(const Sweep& sweep);
    // What it searches, on the medium: with the sweep a unit of work that whoever has the medium can take up.
    Result<std::vector<Extent>> ground_of(std::int64_t volume) const;
    Result<void> save_ground(std::int64_t volume, const std::vector<Extent>& ground);
    // Takes back what an unfinished scan of a volume left.
    Result<void> remove_volume(std::int64_t volume);

    // Between these, changes are kept together and are safe from a power cut as a whole.
    Result<void> begin();
    Result<void> commit();
    void roll_back();
    // To be called before the last commit, so that the usual questions are answered at once.
    Result<void> summarise();

    // The first id that is free, and all after it.
    Result<std::int64_t> next_id() const;
    // Under the id that it brings.
    Result<void> add(const Candidate& candidate);

    // What is known better now: everything but the record's own words.
    Result<void> update(const Candidate& candidate);
    // What was learnt of these after the scan. False where the catalog can't be written now: it is learnt again then.
    bool keep(const std::vector<Learnt>& learnt);

    // The files of a source of which another one with as many bytes, deleted ones among them, is there: by size.
    Result<void> each_of_same_size(std::int64_t source,
                                   const std::function<bool(std::int64_t candidate, std::uint64_t size)>& visit) const;
    // Up to which candidate the contents of a source were compared with each other.
    Result<std::int64_t> compared_to(std::int64_t source) const;
    Result<void> save_compared(std::int64_t source, std::int64_t last);
    Result<void> save_content(std::int64_t candidate, std::int64_t content);

    // Of the selected ones whose content others of them have, too: how many have it, by the one that comes first in the
    // order, and those that come after it.
    struct Copies {
        std::map<std::int64_t, std::uint64_t> count;  // by candidate
        std::set<std::int64_t> further;
    };
    Result<Copies> copies(const Selection& selection, const Order& order) const;
    // All with the content of this one, live ones too, without itself and without layouts.
    Result<std::vector<Candidate>> of_same_content(const Candidate& candidate) const;

    // The candidates of a volume that are not live and whose content begins at this byte of the medium.
    Result<std::vector<Candidate>> beginning_at(std::int64_t volume, std::uint64_t offset) const;
    // Those with an id above `after`, in order, with layouts: the next `most` files of a volume that are not live and
    // were not found by signature or checked before.
    Result<std::vector<Candidate>> to_check(std::int64_t volume, std::int64_t after, std::size_t most) const;

    // The pieces of all of them, on the medium, and whether the content was found right.
    Result<void> each_piece(
        std::int64_t volume,
        const std::function<void(std::int64_t candidate, const Extent&, bool is_proven)>& visit) const;
    // The stored pieces of all files, live ones too, with what their candidates are.
    Result<void> each_extent(
        const std::function<void(std::int64_t volume, State state, Band band, const Extent&)>& visit) const;
    // The stored pieces of all candidates of a source.
    Result<void> each_stored_extent(std::int64_t source,
                                    const std::function<void(std::int64_t candidate, const Extent&)>& visit) const;
    // Takes back what was found by signature: in a volume, and these.
    Result<void> remove_finds(std::int64_t volume);
    Result<void> remove_finds(const std::vector<std::int64_t>& candidates);
    // A file of a source, live ones too, that tells of the whole of this range of the medium as its own; empty: none.
    Result<std::string> path_of_holder(std::int64_t source, const Extent& range) const;

    Result<std::optional<Candidate>> find(std::int64_t id) const;
    // Of those with an id above `after`.
    Result<std::int64_t> count(const Selection& selection, std::int64_t after = 0) const;
    Result<Totals> totals(const Selection& selection) const;
    // By volume; those of which nothing is selected are not among them.
    Result<std::map<std::int64_t, Totals>> totals_of_volumes(const Selection& selection) const;
    // Hands over each selected candidate of the page, which `visit` may keep; stops where it says false. Layouts only
    // when asked for.
    Result<void> each(const Selection& selection, const Order& order, bool with_layouts,
                      const std::function<bool(Candidate&)>& visit, const Page& page = {}) const;
    // The totals of each group, in no order, by its path: the folder's parts; year, month and day of the last change;
    // or a single word. Those of which it is not known have an empty word.
    using GroupSink = std::function<void(GroupTree::Path path, const Totals&)>;
    Result<void> each_group(const Selection& selection, Grouping grouping, const GroupSink& visit) const;
    // What other candidates of the same volume share with one's pieces on the medium: live ones first, then by place.
    struct Overlap {
        std::int64_t candidate;
        std::string path;
        State state;
        std::size_t piece;          // of the layout
        Extent shared;              // on the medium
        bool is_same_file = false;  // or one that the file system lets share its content: it took nothing over
    };
    Result<std::vector<Overlap>> overlapping(const Candidate& candidate) const;
    // The finds with the same place and name, and streams of such files: earlier versions and what belongs to it. Without
    // the candidate itself and without layouts.
    Result<std::vector<Candidate>> of_same_name(const Candidate& candidate) const;
    // "PATH, written TIME"; empty where there is no such candidate.
    std::string name_of(std::int64_t id) const;

  private:
    Catalog(std::filesystem::path path, sqlite::Database database);
    static Result<Catalog> checked(const std::filesystem::path& path, sqlite::Database database);
    Result<void> add_layout(const Candidate& candidate);
    Result<std::optional<Candidate>> row_of(std::int64_t id) const;  // without its layout
    Result<void> load_layout(Candidate& candidate) const;
    Result<void> load_packs(Candidate& candidate) const;

    std::filesystem::path path_;
    // Of one that is open for a scan. It goes after the database: the system gives back all locks of a process on a
    // file when any of its descriptors is closed.
    std::shared_ptr<const FileLock> lock_;
    sqlite::Database database_;
    mutable sqlite::Statement add_candidate_, add_extent_, find_, layout_, sums_, name_, beginning_;
};

}  // namespace dredger
