// Where a catalog keeps what a scan found: a SQLite database. docs/catalog.md describes the tables.
#pragma once

#include <filesystem>
#include <functional>
#include <map>
#include <memory>
#include <optional>

#include "base/file_lock.h"
#include "catalog/candidate.h"
#include "catalog/schema.h"
#include "catalog/sqlite.h"

namespace dredger {

// Used by one thread; several may be open on one file, in several processes too.
class Store {
  public:
    static constexpr int kVersion = kCatalogVersion;

    // For a scan: made where there is none.
    static Result<Store> open_for_scan(const std::filesystem::path& path);
    // For everything after the scan; works while a scan writes.
    static Result<Store> open(const std::filesystem::path& path);

    const std::filesystem::path& path() const { return path_; }
    // Names this catalog among all others, wherever it is copied to.
    Result<std::string> uuid() const;

    Result<std::vector<ScannedSource>> sources() const;
    Result<std::vector<ScannedVolume>> volumes() const;
    Result<std::int64_t> add_source(const ScannedSource& source);
    // The areas of a source that could not be read, in order: by whom that was told.
    enum class ToldBy : std::uint8_t { reads, map };
    Result<std::vector<Extent>> bad_areas(std::int64_t source, ToldBy by = ToldBy::reads) const;
    // Those of a map must not touch those of reads.
    Result<void> save_bad_areas(std::int64_t source, const std::vector<Extent>& areas, ToldBy by = ToldBy::reads);
    Result<std::int64_t> add_volume(const ScannedVolume& volume);
    Result<void> finish_volume(const ScannedVolume& volume);
    // More of a source can be read than when it was scanned: these volumes, and the stores in what they hold, are to be
    // scanned again. What is known of them stays until then.
    Result<void> expect_more_of(const std::vector<std::int64_t>& volumes);
    // How far the deep scan of a volume is; none where it has not begun.
    Result<std::optional<Sweep>> sweep_of(std::int64_t volume) const;
    Result<void> save_sweep(const Sweep& sweep);
    // What it searches, on the medium: with the sweep a unit of work that whoever has the medium can take up.
    Result<std::vector<Extent>> ground_of(std::int64_t volume) const;
    Result<void> save_ground(std::int64_t volume, const std::vector<Extent>& ground);
    // Takes back what an unfinished scan of a volume left.
    Result<void> remove_volume(std::int64_t volume);

    // Between these, changes are kept together and are safe from a power cut as a whole. commit() keeps nothing where
    // the condition fails, and fails with it.
    Result<void> begin();
    Result<void> commit();
    void keep_only_if(std::function<Result<void>()> condition) { condition_ = std::move(condition); }
    void roll_back();
    // To be called before the last commit, so that the usual questions are answered at once.
    Result<void> summarise();

    // The first id that is free, and all after it.
    Result<std::int64_t> next_id() const;
    // Under the id that it brings.
    Result<void> add(const Candidate& candidate);

    // What is known better now.
    Result<void> update(const Candidate& candidate);
    // Records of which an earlier look at a volume told, and this one doesn't.
    Result<void> remove(const std::vector<std::int64_t>& candidates);
    // What was learnt of these after the scan. False where the catalog can't be written now: it is learnt again then.
    bool keep(const std::vector<Learnt>& learnt);

    // Up to which candidate the contents of a source were compared with each other.
    Result<std::int64_t> compared_to(std::int64_t source) const;
    Result<void> save_compared(std::int64_t source, std::int64_t last);
    Result<void> save_content(std::int64_t candidate, std::int64_t content);
    // What these are to other files, instead of all that was known of that in the source; all or none of it.
    Result<void> save_copies(std::int64_t source, const std::map<std::int64_t, SafetyCopy>& copies);

    // The candidates of a volume that are not live and whose content begins at this byte of the medium.
    Result<std::vector<Candidate>> beginning_at(std::int64_t volume, std::uint64_t offset) const;
    // Those with an id above `after`, in order, with layouts: the next `most` files of a volume that are not live and
    // were not found by signature or checked before.
    Result<std::vector<Candidate>> to_check(std::int64_t volume, std::int64_t after, std::size_t most) const;

    // Takes back what was found by signature: in a volume, and these.
    Result<void> remove_finds(std::int64_t volume);
    Result<void> remove_finds(const std::vector<std::int64_t>& candidates);
    Result<std::optional<Candidate>> find(std::int64_t id) const;

  protected:
    Result<std::optional<Candidate>> row_of(std::int64_t id) const;  // without its layout
    Result<void> load_layout(Candidate& candidate) const;
    const sqlite::Database& database() const { return database_; }

  private:
    Store(std::filesystem::path path, sqlite::Database database);
    static Result<Store> checked(const std::filesystem::path& path, sqlite::Database database);
    Result<void> add_layout(const Candidate& candidate);
    Result<void> remove_layout(std::int64_t candidate);
    Result<void> load_packs(Candidate& candidate) const;

    std::filesystem::path path_;
    // Of one that is open for a scan. It goes after the database: the system gives back all locks of a process on a
    // file when any of its descriptors is closed.
    std::shared_ptr<const FileLock> lock_;
    sqlite::Database database_;
    std::function<Result<void>()> condition_;  // empty: none
    mutable sqlite::Statement add_candidate_, add_extent_, find_, layout_, sums_, beginning_;
};

}  // namespace dredger
