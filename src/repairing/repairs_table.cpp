#include "repairing/repairs_table.h"

#include "base/csv.h"
#include "base/whole_file.h"

namespace dredger::repairing {
namespace {

constexpr std::string_view kColumns[] = {"file", "result", "format", "outcome", "kept",
                                         "of",   "unit",   "sha256", "what"};

bool is_complete(std::string_view outcome) {
    return outcome == word_for(Outcome::whole) || outcome == word_for(Outcome::mended);
}

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
            if (!is_complete(rows.field(row, "outcome")) ||
                !std::filesystem::exists(path.parent_path() / rows.field(row, "result"), failed))
                continue;
            table.mended_.insert(rows.field(row, "file"));
            text += csv_row(row.fields);
        }
    }
    DREDGER_CHECK(write_whole_file(path, text));
    table.out_.open(path, std::ios::app | std::ios::binary);
    return table;
}

Result<void> RepairsTable::add(const RepairedItem& item) {
    const std::string kept = std::to_string(item.kept);
    const std::string of = std::to_string(item.of);
    const std::string_view fields[] = {item.file, item.result, item.format, word_for(item.outcome), kept, of,
                                       item.unit, item.sha256, item.what};
    out_ << csv_row(fields) << std::flush;
    if (!out_) return fail(ErrorKind::output, "the table can't be written", path_.string(), "make room on the drive");
    return {};
}

}  // namespace dredger::repairing
