#include "repairing/repairs_table.h"

#include <algorithm>
#include <fstream>
#include <set>

#include "base/beneath.h"
#include "base/csv.h"
#include "base/whole_file.h"

namespace dredger::repairing {
namespace {

constexpr std::string_view kColumns[] = {"file", "result", "format", "outcome", "kept", "of", "unit", "sha256", "what"};
constexpr std::size_t kFile = 0, kResult = 1, kOutcome = 3, kSha256 = 7;

using Rows = std::vector<std::vector<std::string>>;

// The last row of each file, of those whose results are there.
Result<Rows> last_rows(const std::filesystem::path& path) {
    Rows rows;
    std::error_code failed;
    if (!std::filesystem::exists(path, failed)) return rows;
    DREDGER_TRY(const std::string text, read_whole_file(path));
    DREDGER_TRY(const CsvTable table, read_csv(text));
    std::set<std::string> seen;
    for (auto row = table.rows.rbegin(); row != table.rows.rend(); ++row) {
        const std::vector<std::string>& fields = row->fields;
        if (fields.size() != std::size(kColumns)) continue;
        const bool is_there =
            fields[kResult].empty() || std::filesystem::exists(path.parent_path() / fields[kResult], failed);
        if (is_there && seen.insert(fields[kFile]).second) rows.push_back(fields);
    }
    std::reverse(rows.begin(), rows.end());
    return rows;
}

Result<void> write_rows(const std::filesystem::path& path, const Rows& rows) {
    std::string text = csv_row(kColumns);
    for (const std::vector<std::string>& row : rows) text += csv_row(row);
    return write_whole_file(path, text);
}

}  // namespace

Result<RepairsTable> RepairsTable::open(const std::filesystem::path& path) {
    RepairsTable table;
    table.path_ = path;
    DREDGER_TRY(const Rows rows, last_rows(path));
    for (const std::vector<std::string>& row : rows) table.earlier_[row[kFile]] = row;
    DREDGER_CHECK(write_rows(path, rows));
    return table;
}

bool RepairsTable::is_mended(const std::string& file) const {
    const auto found = earlier_.find(file);
    if (found == earlier_.end()) return false;
    const std::string& outcome = found->second[kOutcome];
    return outcome == word_for(Outcome::whole) || outcome == word_for(Outcome::mended);
}

std::string RepairsTable::earlier_result(const std::string& file, const std::string& sha256) const {
    const auto found = earlier_.find(file);
    return found != earlier_.end() && !sha256.empty() && found->second[kSha256] == sha256 ? found->second[kResult] : "";
}

Result<void> RepairsTable::add(const RepairedItem& item) {
    const std::string kept = std::to_string(item.kept);
    const std::string of = std::to_string(item.of);
    const std::string_view fields[] = {item.file, item.result, item.format, word_for(item.outcome), kept, of,
                                       item.unit, item.sha256, item.what};
    has_repeats_ = has_repeats_ || earlier_.contains(item.file);
    DREDGER_CHECK(refuse_link(path_));
    std::ofstream out(path_, std::ios::app | std::ios::binary);
    out << csv_row(fields) << std::flush;
    if (!out) return not_written("the table can't be written", path_.string(), "make room on the drive");
    return {};
}

Result<void> RepairsTable::finish() {
    if (!has_repeats_) return {};
    DREDGER_TRY(const Rows rows, last_rows(path_));
    return write_rows(path_, rows);
}

}  // namespace dredger::repairing
