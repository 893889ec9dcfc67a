#include "repairing/repairs_table.h"

#include <algorithm>
#include <fstream>

#include "base/csv.h"
#include "base/whole_file.h"

namespace dredger::repairing {
namespace {

constexpr std::string_view kColumns[] = {"file", "result", "format", "outcome", "kept", "of", "unit", "sha256", "what"};
constexpr std::size_t kFile = 0, kResult = 1, kOutcome = 3;

}  // namespace

Result<RepairsTable> RepairsTable::open(const std::filesystem::path& path) {
    RepairsTable table;
    table.path_ = path;
    std::string text = csv_row(kColumns);
    std::error_code failed;
    if (std::filesystem::exists(path, failed)) {
        DREDGER_TRY(const std::string before, read_whole_file(path));
        DREDGER_TRY(const CsvTable rows, read_csv(before));
        for (const CsvTable::Row& row : rows.rows) {
            if (row.fields.size() != std::size(kColumns)) continue;
            const std::string& result = row.fields[kResult];
            if (!result.empty() && !std::filesystem::exists(path.parent_path() / result, failed)) continue;
            table.earlier_.push_back(row.fields);
            text += csv_row(row.fields);
        }
    }
    DREDGER_CHECK(write_whole_file(path, text));
    return table;
}

bool RepairsTable::is_mended(const std::string& file) const {
    return std::any_of(earlier_.begin(), earlier_.end(), [&](const std::vector<std::string>& row) {
        return row[kFile] == file &&
               (row[kOutcome] == word_for(Outcome::whole) || row[kOutcome] == word_for(Outcome::mended));
    });
}

Result<void> RepairsTable::add(const RepairedItem& item) {
    const std::string kept = std::to_string(item.kept);
    const std::string of = std::to_string(item.of);
    const std::string_view fields[] = {item.file, item.result, item.format, word_for(item.outcome), kept, of,
                                       item.unit, item.sha256, item.what};
    const auto is_of_file = [&](const std::vector<std::string>& row) { return row[kFile] == item.file; };
    if (std::erase_if(earlier_, is_of_file) > 0) {
        DREDGER_TRY(const std::string before, read_whole_file(path_));
        DREDGER_TRY(const CsvTable rows, read_csv(before));
        std::string text = csv_row(kColumns);
        for (const CsvTable::Row& row : rows.rows)
            if (!is_of_file(row.fields)) text += csv_row(row.fields);
        DREDGER_CHECK(write_whole_file(path_, text));
    }
    std::ofstream out(path_, std::ios::app | std::ios::binary);
    out << csv_row(fields) << std::flush;
    if (!out) return fail(ErrorKind::output, "the table can't be written", path_.string(), "make room on the drive");
    return {};
}

}  // namespace dredger::repairing
