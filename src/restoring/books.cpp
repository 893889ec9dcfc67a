#include "restoring/books.h"

#include <fmt/format.h>
#include <future>
#include <spdlog/sinks/basic_file_sink.h>
#include <spdlog/spdlog.h>

#include "base/beneath.h"
#include "base/text.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

// A log that other runs in the same process do not share.
std::shared_ptr<spdlog::logger> open_log(const fs::path& file) {
    try {
        auto log = std::make_shared<spdlog::logger>("restore",
                                                    std::make_shared<spdlog::sinks::basic_file_sink_mt>(file.string()));
        log->set_pattern("%Y-%m-%dT%H:%M:%S%z %l %v");
        log->flush_on(spdlog::level::warn);
        return log;
    } catch (const spdlog::spdlog_ex&) {
        return nullptr;
    }
}

std::string facts_text(const FileEntry& record) {
    std::string text = fmt::format("{}", fmt::join(record.attributes, ", "));
    for (const Fact& fact : record.facts)
        text += fmt::format("{}{} {}", text.empty() ? "" : "; ", fact.name, fact.value);
    return text;
}

enum class Left { nothing, the_file, another };

// What a row of a manifest has below `folder` now.
Left left_of(const Manifest& manifest, const ManifestRow& row, const fs::path& folder, bool reads_again) {
    if (row.sum().empty()) return Left::nothing;
    std::error_code failed;
    const fs::path file = folder / row.restored_path;
    if (!fs::is_regular_file(fs::symlink_status(file, failed))) return Left::nothing;
    if (fs::file_size(file, failed) != row.size || failed) return Left::another;
    // A run that did not come to its end may have left anything.
    if (!reads_again && manifest.is_confirmed(row)) return Left::the_file;
    return read_back(file, row.sums()) == row.sum() ? Left::the_file : Left::another;
}

// The row of this candidate.
const ManifestRow* row_of(const Manifest& manifest, const std::string& catalog, const Candidate& c) {
    const ManifestRow* row = manifest.find(catalog, c.id);
    return row != nullptr && row->original_path == valid_utf8(c.record.path()) && row->size == c.record.size ? row
                                                                                                             : nullptr;
}

}  // namespace

Result<Books> Books::read_only(const std::vector<fs::path>& beyond) {
    Books books;
    for (const fs::path& folder : beyond) {
        if (std::error_code failed; !fs::exists(folder / "manifest.csv", failed))
            return fail(ErrorKind::usage, "no restore has written here: there is no manifest.csv", folder.string(),
                        "--after takes the folder that an earlier run restored into");
        DREDGER_TRY(Manifest earlier, Manifest::read(folder));
        books.earlier_.emplace_back(folder, std::move(earlier));
    }
    return books;
}

Result<void> Books::open(const fs::path& folder) {
    folder_ = folder;
    drive_ = std::make_unique<DriveSync>(folder);
    for (const char* name : {"manifest.csv", "restore.log"}) DREDGER_CHECK(refuse_link(folder / name));
    for (const std::string_view name : kSumFiles) DREDGER_CHECK(refuse_link(folder / name));
    DREDGER_TRY(manifest_, Manifest::open(folder));
    log_ = open_log(folder / "restore.log");
    if (log_ == nullptr)
        return not_written("the log can't be written", (folder / "restore.log").string(), "check the destination");
    return {};
}

std::string Books::done_already(const std::string& catalog, const Candidate& candidate, bool reads_again) {
    if (manifest_)
        if (const ManifestRow* row = row_of(*manifest_, catalog, candidate)) {
            const Left left = left_of(*manifest_, *row, folder_, reads_again);
            if (reads_again) entered_.emplace(row->catalog, row->id);
            if (left == Left::the_file) return row->restored_path;
            if (left == Left::another && manifest_->is_confirmed(*row)) spoiled_.push_back(row->restored_path);
        }
    for (const auto& [folder, manifest] : earlier_)
        if (const ManifestRow* row = row_of(manifest, catalog, candidate))
            if (left_of(manifest, *row, folder, reads_again) == Left::the_file)
                return (folder / row->restored_path).string();
    return {};
}

void Books::read_rest(const std::function<bool()>& stop) {
    if (!manifest_) return;
    for (const auto& [key, row] : manifest_->rows()) {
        if (stop()) return;
        if (entered_.contains(key) || row.sum().empty() || row.restored_path.empty()) continue;
        if (left_of(*manifest_, row, folder_, true) == Left::the_file) continue;
        spoiled_.push_back(row.restored_path);
        note(fmt::format("{} is not what was restored any more", row.restored_path), true);
    }
}

void Books::note(const std::string& sentence, bool is_trouble) {
    if (log_ != nullptr) log_->log(is_trouble ? spdlog::level::warn : spdlog::level::info, "{}", sentence);
}

Result<void> Books::enter(const std::string& catalog, const Candidate& c, const fs::path& place, Outcome outcome,
                          const std::string& why, const WrittenFile* written) {
    if (!manifest_ || outcome == Outcome::already) return {};
    entered_.emplace(catalog, c.id);
    note(fmt::format("{} {}: {} -> {}{}{}", word_for(outcome), c.id, printable(c.record.path()), place.string(),
                     why.empty() ? "" : ": ", why),
         outcome != Outcome::whole);
    ManifestRow row;
    row.catalog = catalog;
    row.id = c.id;
    row.state = word_for(c.record.state);
    row.origin = word_for(c.record.origin);
    row.prospect = c.prospect.value;
    row.band = word_for(c.prospect.band);
    row.check = word_for(c.prospect.check);
    row.original_path = valid_utf8(c.record.path());
    row.restored_path = outcome == Outcome::failed || outcome == Outcome::skipped ? "" : place.generic_string();
    row.size = c.record.size;
    if (written != nullptr) {
        row.restored_bytes = c.record.size - written->missing;
        row.set_sum(written->sum);
    }
    row.outcome = word_for(outcome);
    if (c.record.modified) row.modified = iso8601(*c.record.modified);
    if (c.record.created) row.created = iso8601(*c.record.created);
    row.facts = facts_text(c.record);
    if (written != nullptr) drive_->wrote(row.restored_bytes);
    return manifest_->add(std::move(row));
}

Result<std::optional<Outcome>> Books::enter_replaced(const std::pair<std::string, std::int64_t>& key,
                                                     const fs::path& place) {
    const ManifestRow* row = manifest_ ? manifest_->find(key.first, key.second) : nullptr;
    if (row == nullptr) return std::nullopt;
    std::optional<Outcome> before;
    for (const Outcome outcome : {Outcome::whole, Outcome::doubtful, Outcome::partial})
        if (row->outcome == word_for(outcome)) before = outcome;
    ManifestRow changed = *row;
    changed.restored_path.clear();
    changed.set_sum({});
    changed.restored_bytes = 0;
    changed.outcome = word_for(Outcome::skipped);
    note(fmt::format("skipped {}: {} was replaced by another one", changed.id, place.string()), true);
    DREDGER_CHECK(manifest_->add(std::move(changed)));
    return before;
}

Result<void> Books::close() {
    // The files before the list that vouches for them, and this one, too.
    auto waiting = std::async(std::launch::async, [this] { return drive_->wait(); });
    const Manifest::Final form = manifest_->final_form();
    std::error_code trouble = waiting.get();
    if (!trouble) DREDGER_CHECK(manifest_->finish(form));
    if (!trouble) trouble = drive_->wait();
    if (trouble) {
        const std::string what = "the destination did not confirm that everything is on the drive";
        note(what + ": " + trouble.message(), true);
        return not_written(what, folder_.string(), "check the drive, then run the same command again", trouble.value());
    }
    log_->flush();
    return {};
}

}  // namespace dredger
