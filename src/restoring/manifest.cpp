#include "restoring/manifest.h"

#include <charconv>
#include <fmt/format.h>
#include <sstream>

#include "base/csv.h"
#include "base/whole_file.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

const std::vector<std::string> kColumns = {
    "catalog",       "id",   "state",          "origin", "prospect", "band",     "check",   "original_path",
    "restored_path", "size", "restored_bytes", "sha256", "outcome",  "modified", "created", "facts"};

std::string text_of(const ManifestRow& r) {
    return csv_row({r.catalog, std::to_string(r.id), r.state, r.origin, std::to_string(r.prospect), r.band, r.check,
                    r.original_path, r.restored_path, std::to_string(r.size), std::to_string(r.restored_bytes),
                    r.sha256, r.outcome, r.modified, r.created, r.facts});
}

template <class Number>
Number number_in(const std::string& text) {
    Number value = 0;
    std::from_chars(text.data(), text.data() + text.size(), value);
    return value;
}

tl::unexpected<Error> unwritable(const fs::path& file) {
    return fail(ErrorKind::output, "the manifest can't be written", file.string(),
                "check space and permissions of the destination");
}

std::string sum_line(const ManifestRow& row) { return fmt::format("{}  {}\n", row.sha256, row.restored_path); }

}  // namespace

Result<Manifest> Manifest::read(const fs::path& folder) {
    Manifest manifest;
    manifest.folder_ = folder;
    const fs::path file = folder / "manifest.csv";
    std::error_code failed;
    if (!fs::exists(file, failed)) return manifest;
    DREDGER_TRY(std::string text, read_whole_file(file));
    // A run that was killed may have left half a row.
    if (const auto end = text.rfind("\r\n"); end != text.npos) text.resize(end + 2);
    const auto table = parse_csv(text);
    if (!table)
        return fail(ErrorKind::usage, "a file is in the way that is no manifest of dredger", file.string(),
                    "restore into another folder");
    for (auto row : *table) {
        ManifestRow r{row["catalog"],
                      row["state"],
                      row["origin"],
                      row["band"],
                      row["check"],
                      row["original_path"],
                      row["restored_path"],
                      row["sha256"],
                      row["outcome"],
                      row["modified"],
                      row["created"],
                      row["facts"],
                      number_in<std::int64_t>(row["id"]),
                      number_in<int>(row["prospect"]),
                      number_in<std::uint64_t>(row["size"]),
                      number_in<std::uint64_t>(row["restored_bytes"])};
        manifest.rows_[{r.catalog, r.id}] = std::move(r);
    }
    std::istringstream sums(read_whole_file(folder / "SHA256SUMS").value_or(""));
    for (std::string line; std::getline(sums, line);) manifest.confirmed_.insert(line + "\n");
    return manifest;
}

Result<Manifest> Manifest::open(const fs::path& folder) {
    DREDGER_TRY(Manifest manifest, read(folder));
    // Written anew, so that what is added follows whole rows.
    const fs::path file = folder / "manifest.csv";
    DREDGER_CHECK(write_whole_file(file, manifest.text()));
    manifest.out_.open(file, std::ios::binary | std::ios::app);
    if (!manifest.out_) return unwritable(file);
    return manifest;
}

std::string Manifest::text() const {
    std::string table = csv_row(kColumns);
    for (const auto& [key, row] : rows_) table += text_of(row);
    return table;
}

const ManifestRow* Manifest::find(const std::string& catalog, std::int64_t id) const {
    const auto found = rows_.find({catalog, id});
    return found == rows_.end() ? nullptr : &found->second;
}

bool Manifest::is_confirmed(const ManifestRow& row) const { return confirmed_.contains(sum_line(row)); }

Result<void> Manifest::add(ManifestRow row) {
    out_ << text_of(row) << std::flush;
    if (!out_) return unwritable(folder_ / "manifest.csv");
    rows_[{row.catalog, row.id}] = std::move(row);
    return {};
}

Result<void> Manifest::finish() {
    std::map<std::string, std::string> sums;  // lines by path
    for (const auto& [key, row] : rows_)
        if (!row.sha256.empty()) sums[row.restored_path] = sum_line(row);
    std::string lines;
    for (const auto& [path, line] : sums) lines += line;
    out_.close();
    DREDGER_CHECK(write_whole_file(folder_ / "manifest.csv", text()));
    return write_whole_file(folder_ / "SHA256SUMS", lines);
}

}  // namespace dredger
