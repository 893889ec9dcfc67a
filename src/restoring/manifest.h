// manifest.csv and SHA256SUMS (or XXH128SUMS) in the destination: what was restored from where, and the proof.
#pragma once

#include <array>
#include <filesystem>
#include <fstream>
#include <map>
#include <set>
#include <string>

#include "base/error.h"
#include "restoring/content_sum.h"

namespace dredger {

struct ManifestRow {
    std::string catalog, state, origin, band, check, original_path, restored_path, sha256, outcome, modified;
    std::string created, facts;  // "mode -rw-r--r--; owner 1000:1000"
    std::int64_t id = 0;
    int prospect = 0;
    std::uint64_t size = 0;
    std::uint64_t restored_bytes = 0;  // bytes that were read; holes and unreadable places are not among them
    std::string xxh128;                // where that was asked for instead of SHA-256; in the file one of the facts

    // Of the file as it was written, in the one form or the other; empty: there is none.
    const std::string& sum() const { return sha256.empty() ? xxh128 : sha256; }
    SumKind sums() const { return sha256.empty() ? SumKind::xxh128 : SumKind::sha256; }
    void set_sum(const std::string& digits);
};

class Manifest {
  public:
    // Reads the one that an earlier run left in `folder`, and goes on with it.
    static Result<Manifest> open(const std::filesystem::path& folder);
    // Reads one of another destination; nothing can be added to it.
    static Result<Manifest> read(const std::filesystem::path& folder);

    // What an earlier run or this one did with a candidate; null where nothing.
    const ManifestRow* find(const std::string& catalog, std::int64_t id) const;
    using Rows = std::map<std::pair<std::string, std::int64_t>, ManifestRow>;  // by catalog and id
    const Rows& rows() const { return rows_; }
    // Whether a run that came to its end wrote the row: its file was on the drive then, whole.
    bool is_confirmed(const ManifestRow& row) const;
    // Written to the file at once, so that an interrupted run is remembered. A later row of a candidate replaces the
    // earlier one.
    Result<void> add(ManifestRow row);
    // The text of each file once no more is added: each candidate once.
    struct Final {
        std::string table;                // empty: it is as it should be already
        std::array<std::string, 2> sums;  // by SumKind
    };
    Final final_form() const;
    Result<void> finish(const Final& form);

  private:
    std::string text() const;

    std::filesystem::path folder_;
    Rows rows_;
    std::set<std::string> confirmed_;  // lines of the files of sums
    std::ofstream out_;
    bool is_superseded_ = false;  // there is a row in the file whose place a later one took
};

}  // namespace dredger
