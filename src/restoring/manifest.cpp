#include "restoring/manifest.h"

#include <charconv>
#include <fmt/format.h>
#include <sstream>

#include "base/csv.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

const std::vector<std::string> kColumns = {"catalog",        "id",     "state",         "origin",        "prospect",
                                           "band",           "check",  "original_path", "restored_path", "size",
                                           "restored_bytes", "sha256", "outcome",       "modified"};

std::string text_of(const ManifestRow& r) {
    return csv_row({r.catalog, std::to_string(r.id), r.state, r.origin, std::to_string(r.prospect), r.band, r.check,
                    r.original_path, r.restored_path, std::to_string(r.size), std::to_string(r.restored_bytes),
                    r.sha256, r.outcome, r.modified});
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

// Written beside its place and moved there, so that there is always a whole one.
Result<void> write_whole(const fs::path& file, const std::string& text) {
    const fs::path fresh = file.string() + ".new";
    std::ofstream out(fresh, std::ios::binary | std::ios::trunc);
    out << text;
    out.close();
    std::error_code failed;
    if (!out) return unwritable(file);
    fs::rename(fresh, file, failed);
    if (failed) return unwritable(file);
    return {};
}

}  // namespace

Result<Manifest> Manifest::open(const fs::path& folder) {
    Manifest manifest;
    manifest.folder_ = folder;
    const fs::path file = folder / "manifest.csv";
    if (std::ifstream in(file, std::ios::binary); in) {
        std::stringstream text;
        text << in.rdbuf();
        const auto table = parse_csv(text.str());
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
                          number_in<std::int64_t>(row["id"]),
                          number_in<int>(row["prospect"]),
                          number_in<std::uint64_t>(row["size"]),
                          number_in<std::uint64_t>(row["restored_bytes"])};
            manifest.rows_[{r.catalog, r.id}] = std::move(r);
        }
    }
    const bool fresh = !fs::exists(file);
    manifest.out_.open(file, std::ios::binary | std::ios::app);
    if (fresh) manifest.out_ << csv_row(kColumns) << std::flush;
    if (!manifest.out_) return unwritable(file);
    return manifest;
}

const ManifestRow* Manifest::find(const std::string& catalog, std::int64_t id) const {
    const auto found = rows_.find({catalog, id});
    return found == rows_.end() ? nullptr : &found->second;
}

Result<void> Manifest::add(ManifestRow row) {
    out_ << text_of(row) << std::flush;
    if (!out_) return unwritable(folder_ / "manifest.csv");
    rows_[{row.catalog, row.id}] = std::move(row);
    return {};
}

Result<void> Manifest::finish() {
    std::string table = csv_row(kColumns);
    std::map<std::string, std::string> sums;  // by path
    for (const auto& [key, row] : rows_) {
        table += text_of(row);
        if (!row.sha256.empty()) sums[row.restored_path] = row.sha256;
    }
    std::string lines;
    for (const auto& [path, sum] : sums) lines += fmt::format("{}  {}\n", sum, path);
    out_.close();
    DREDGER_CHECK(write_whole(folder_ / "manifest.csv", table));
    return write_whole(folder_ / "SHA256SUMS", lines);
}

}  // namespace dredger
