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

constexpr std::string_view kFact = "xxh128 ";
constexpr std::size_t kXxh128Digits = 32;

// The facts of a row in the file, and its sum among them.
std::string with_sum(const ManifestRow& row) {
    if (row.xxh128.empty()) return row.facts;
    return fmt::format("{}{}{}{}", row.facts, row.facts.empty() ? "" : "; ", kFact, row.xxh128);
}
void take_sum(ManifestRow& row) {
    const std::size_t at = row.facts.rfind(kFact);
    if (at == std::string::npos || row.facts.size() - at != kFact.size() + kXxh128Digits) return;
    row.xxh128 = row.facts.substr(at + kFact.size());
    row.facts.erase(at < 2 ? at : at - 2);
}

std::string text_of(const ManifestRow& r) {
    const std::string numbers[] = {std::to_string(r.id), std::to_string(r.prospect), std::to_string(r.size),
                                   std::to_string(r.restored_bytes)};
    const std::string facts = with_sum(r);
    const std::array<std::string_view, 16> fields = {
        r.catalog,       numbers[0], r.state,    r.origin, numbers[1], r.band,     r.check,   r.original_path,
        r.restored_path, numbers[2], numbers[3], r.sha256, r.outcome,  r.modified, r.created, facts};
    return csv_row(fields);
}

template <class Number>
Number number_in(const std::string& text) {
    Number value = 0;
    std::from_chars(text.data(), text.data() + text.size(), value);
    return value;
}

tl::unexpected<Error> unwritable(const fs::path& file) {
    return not_written("the manifest can't be written", file.string(),
                       "check space and permissions of the destination");
}

std::string sum_line(const ManifestRow& row) { return row.sum() + "  " + row.restored_path + "\n"; }

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
                      number_in<std::uint64_t>(row["restored_bytes"]),
                      {}};
        take_sum(r);
        manifest.rows_[{r.catalog, r.id}] = std::move(r);
    }
    for (const char* name : kSumFiles) {
        std::istringstream sums(read_whole_file(folder / name).value_or(""));
        for (std::string line; std::getline(sums, line);) manifest.confirmed_.insert(line + "\n");
    }
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

void ManifestRow::set_sum(const std::string& digits) {
    const bool is_fast = digits.size() == kXxh128Digits;
    sha256 = is_fast ? "" : digits;
    xxh128 = is_fast ? digits : "";
}

const ManifestRow* Manifest::find(const std::string& catalog, std::int64_t id) const {
    const auto found = rows_.find({catalog, id});
    return found == rows_.end() ? nullptr : &found->second;
}

bool Manifest::is_confirmed(const ManifestRow& row) const { return confirmed_.contains(sum_line(row)); }

Result<void> Manifest::add(ManifestRow row) {
    out_ << text_of(row) << std::flush;
    if (!out_) return unwritable(folder_ / "manifest.csv");
    const auto [place, is_new] = rows_.try_emplace({row.catalog, row.id});
    place->second = std::move(row);
    is_superseded_ = is_superseded_ || !is_new;
    return {};
}

Manifest::Final Manifest::final_form() const {
    Final form{is_superseded_ ? text() : "", {}};
    std::map<std::pair<SumKind, std::string_view>, const ManifestRow*> by_path;
    for (const auto& [key, row] : rows_)
        if (!row.sum().empty()) by_path[{row.sums(), row.restored_path}] = &row;
    for (const auto& [key, row] : by_path) form.sums[static_cast<std::size_t>(key.first)] += sum_line(*row);
    return form;
}

Result<void> Manifest::finish(const Final& form) {
    out_.close();
    if (!form.table.empty()) DREDGER_CHECK(write_whole_file(folder_ / "manifest.csv", form.table));
    for (const SumKind kind : {SumKind::sha256, SumKind::xxh128}) {
        const std::string& lines = form.sums[static_cast<std::size_t>(kind)];
        const fs::path file = folder_ / kSumFiles[static_cast<std::size_t>(kind)];
        std::error_code failed;
        if (!lines.empty() || kind == SumKind::sha256 || fs::exists(file, failed))
            DREDGER_CHECK(write_whole_file(file, lines));
    }
    return {};
}

}  // namespace dredger
