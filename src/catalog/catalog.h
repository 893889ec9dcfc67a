// The catalog: a SQLite database in which a scan keeps all it found. docs/catalog.md describes the tables.
#pragma once

#include <filesystem>
#include <functional>
#include <optional>

#include "catalog/candidate.h"
#include "catalog/selection.h"
#include "catalog/sqlite.h"

namespace dredger {

enum class Sort { prospect, path };

class Catalog {
  public:
    static constexpr int kVersion = 2;

    // For a scan: made where there is none.
    static Result<Catalog> open_for_scan(const std::filesystem::path& path);
    // For everything after the scan; works while a scan writes.
    static Result<Catalog> open(const std::filesystem::path& path);

    const std::filesystem::path& path() const { return path_; }

    Result<std::vector<ScannedSource>> sources() const;
    Result<std::vector<ScannedVolume>> volumes() const;
    Result<std::int64_t> add_source(const ScannedSource& source);
    Result<std::int64_t> add_volume(const ScannedVolume& volume);
    Result<void> finish_volume(const ScannedVolume& volume);
    // Takes back what an unfinished scan of a volume left.
    Result<void> remove_volume(std::int64_t volume);

    // Between these, changes are kept together and are safe from a power cut as a whole.
    Result<void> begin();
    Result<void> commit();
    void roll_back();

    // The first id that is free, and all after it.
    Result<std::int64_t> next_id() const;
    // Under the id that it brings.
    Result<void> add(const Candidate& candidate);

    Result<std::optional<Candidate>> find(std::int64_t id) const;
    Result<std::int64_t> count(const Selection& selection) const;
    // Hands over each selected candidate; stops where `visit` says false. Layouts only when asked for.
    Result<void> each(const Selection& selection, Sort sort, bool with_layouts,
                      const std::function<bool(const Candidate&)>& visit) const;
    // Candidates of the same medium whose layout shares bytes with `where`, live ones first.
    struct Overlap {
        std::int64_t candidate;
        std::string path;
        State state;
        Extent shared;
    };
    Result<std::vector<Overlap>> overlapping(std::int64_t volume, const Extent& where, std::size_t most) const;
    // "PATH, written TIME"; empty where there is no such candidate.
    std::string name_of(std::int64_t id) const;

  private:
    Catalog(std::filesystem::path path, sqlite::Database database);
    static Result<Catalog> checked(const std::filesystem::path& path, sqlite::Database database);
    Result<void> load_layout(Candidate& candidate) const;

    std::filesystem::path path_;
    sqlite::Database database_;
    mutable sqlite::Statement add_candidate_, add_extent_, find_, layout_, name_;
};

}  // namespace dredger
