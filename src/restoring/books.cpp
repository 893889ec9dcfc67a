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

// Where the file of this candidate lies below `folder`, as its manifest tells; empty: it does not, or something else
// does.
std::string found_in(const Manifest& manifest, const fs::path& folder, const std::string& catalog, const Candidate& c) {
    const ManifestRow* row = manifest.find(catalog, c.id);
    if (row == nullptr || row->sum().empty() || row->original_path != valid_utf8(c.record.path())) return {};
    std::error_code failed;
    const fs::path file = folder / row->restored_path;
    if (fs::file_size(file, failed) != c.record.size || failed) return {};
    // A run that did not come to its end may have left anything.
    if (!manifest.is_confirmed(*row) && read_back(file, row->sums()) != row->sum()) return {};
    return row->restored_path;
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
        return fail(ErrorKind::output, "the log can't be written", (folder / "restore.log").string(),
                    "check the destination");
    return {};
}

std::string Books::done_already(const std::string& catalog, const Candidate& candidate) const {
    if (manifest_)
        if (std::string place = found_in(*manifest_, folder_, catalog, candidate); !place.empty()) return place;
    for (const auto& [folder, manifest] : earlier_)
        if (const std::string place = found_in(manifest, folder, catalog, candidate); !place.empty())
            return (folder / place).string();
    return {};
}

void Books::note(const std::string& sentence, bool is_trouble) {
    if (log_ != nullptr) log_->log(is_trouble ? spdlog::level::warn : spdlog::level::info, "{}", sentence);
}

Result<void> Books::enter(const std::string& catalog, const Candidate& c, const fs::path& place, Outcome outcome,
                          const std::string& why, const WrittenFile* written) {
    if (!manifest_ || outcome == Outcome::already) return {};
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
        const std::string why = trouble.message();
        note("the destination did not confirm that everything is on the drive: " + why, true);
        return fail(ErrorKind::output,
                    fmt::format("the destination did not confirm that everything is on the drive ({})", why),
                    folder_.string(), "check the drive, then run the same command again");
    }
    log_->flush();
    return {};
}

}  // namespace dredger
