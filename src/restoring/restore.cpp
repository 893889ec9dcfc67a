#include "restoring/restore.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fmt/format.h>
#include <map>
#include <spdlog/sinks/basic_file_sink.h>
#include <spdlog/spdlog.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include "base/checked.h"
#include "catalog/attaching.h"
#include "catalog/checking.h"
#include "restoring/file_writer.h"
#include "restoring/manifest.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kSpare = 4 << 20;  // bytes left free for the manifest, the log and the file system's own needs

// A log that other runs in the same process do not share.
std::shared_ptr<spdlog::logger> open_log(const fs::path& file) {
    try {
        auto log = std::make_shared<spdlog::logger>("restore",
                                                    std::make_shared<spdlog::sinks::basic_file_sink_mt>(file.string()));
        log->set_pattern("%Y-%m-%dT%H:%M:%S%z %l %v");
        return log;
    } catch (const spdlog::spdlog_ex&) {
        return nullptr;
    }
}

std::string at(const fs::path& path) { return path.string(); }

class Restoration {
  public:
    Restoration(Catalog& catalog, const RestoreRequest& request, RestoreObserver& observer)
        : catalog_(catalog),
          request_(request),
          observer_(observer),
          catalog_name_(catalog.path().filename().string()) {}

    Result<RestoreReport> run() {
        DREDGER_CHECK(survey_selection());
        if (report_.files + report_.folders == 0) return report_;
        DREDGER_CHECK(open_sources());
        DREDGER_CHECK(check_destination());
        if (request_.dry_run) {
            DREDGER_CHECK(restore_all());
            return report_;
        }
        DREDGER_TRY(manifest_, Manifest::open(request_.destination));
        log_ = open_log(request_.destination / "restore.log");
        if (log_ == nullptr)
            return fail(ErrorKind::output, "the log can't be written", at(request_.destination / "restore.log"),
                        "check the destination");
        log_start();
        DREDGER_CHECK(restore_all());
        catalog_.keep(learnt_);
        // The innermost first: writing into a folder changes its time.
        std::reverse(folders_.begin(), folders_.end());
        for (const auto& [folder, record] : folders_) set_mode_and_times(folder, record);
        DREDGER_CHECK(manifest_->finish());
        if (!sync_folder(request_.destination)) {
            log_->error("the destination did not confirm that everything is on the drive: {}", std::strerror(errno));
            return fail(ErrorKind::output,
                        fmt::format("the destination did not confirm that everything is on the drive ({})",
                                    std::strerror(errno)),
                        at(request_.destination), "check the drive, then verify with sha256sum -c SHA256SUMS");
        }
        log_->info(
            "done: {} whole, {} doubtful, {} partial, {} skipped, {} already there, {} failed; {} bytes written{}",
            count(Outcome::whole), count(Outcome::doubtful), count(Outcome::partial), count(Outcome::skipped),
            count(Outcome::already), count(Outcome::failed), report_.written,
            report_.interrupted ? "; interrupted" : "");
        log_->flush();
        return report_;
    }

  private:
    std::uint64_t& count(Outcome outcome) { return report_.counts[static_cast<std::size_t>(outcome)]; }

    // What is selected, and of which volumes.
    Result<void> survey_selection() {
        return catalog_.each(request_.selection, Order{Order::By::path}, false, [&](const Candidate& c) {
            c.record.is_folder ? ++report_.folders : ++report_.files;
            report_.bytes = checked_add(report_.bytes, c.record.size).value_or(report_.bytes);
            ++selected_in_[c.volume];
            return true;
        });
    }

    Result<void> open_sources() {
        std::set<std::int64_t> selected;
        for (const auto& [volume, count] : selected_in_) selected.insert(volume);
        DREDGER_TRY(Attached attached, attach(catalog_, selected,
                                              {request_.source, request_.destination, request_.onto_same_drive,
                                               request_.from_changed_source}));
        media_ = std::move(attached.media);
        remarks_ = std::move(attached.remarks);
        for (const std::string& remark : remarks_) observer_.warning(remark);
        DREDGER_TRY(const auto volumes, catalog_.volumes());
        for (const ScannedVolume& volume : volumes)
            if (media_.contains(volume.id)) folder_for_[volume.id] = media_.size() > 1 ? folder_of(volume) : fs::path();
        return {};
    }

    static fs::path folder_of(const ScannedVolume& volume) {
        if (volume.place.number == 0) return "outside the volumes";
        return safe_part(volume.facts.label.empty()
                             ? fmt::format("volume {}", volume.place.number)
                             : fmt::format("volume {} {}", volume.place.number, volume.facts.label));
    }

    Result<void> check_destination() {
        std::error_code failed;
        const fs::path& to = request_.destination;
        if (fs::exists(to, failed) && !fs::is_directory(to, failed))
            return fail(ErrorKind::usage, "the destination is not a folder", at(to),
                        "give a folder, it is made where it is missing");
        fs::path existing = fs::absolute(to);
        if (!request_.dry_run) {
            fs::create_directories(to, failed);
            if (failed)
                return fail(ErrorKind::output, "the destination can't be made: " + failed.message(), at(to),
                            "choose a folder that is yours");
        }
        while (!fs::exists(existing, failed) && existing != existing.parent_path()) existing = existing.parent_path();
        if (::access(existing.c_str(), W_OK) != 0)
            return fail(ErrorKind::output, fmt::format("the destination can't be written ({})", std::strerror(errno)),
                        at(existing), "choose a folder that is yours");
        struct statvfs space {};
        if (::statvfs(existing.c_str(), &space) != 0) return {};
        const std::uint64_t free = checked_mul(space.f_bavail, space.f_frsize).value_or(UINT64_MAX);
        if (report_.bytes + kSpare > free)
            return fail(
                ErrorKind::output,
                fmt::format("the selection needs {} bytes, the destination has {} free", report_.bytes + kSpare, free),
                at(to), "select less, or restore to a larger drive");
        return {};
    }

    void log_start() {
        log_->info("restore from {} to {}: {} files, {} folders, {} bytes", at(catalog_.path()),
                   at(request_.destination), report_.files, report_.folders, report_.bytes);
        for (const std::string& remark : remarks_) log_->warn("{}", remark);
    }

    Result<void> restore_all() {
        std::optional<Error> stopped;
        DREDGER_CHECK(catalog_.each(request_.selection, Order{Order::By::path}, true, [&](const Candidate& c) {
            if (observer_.should_stop()) {
                report_.interrupted = true;
                return false;
            }
            if (auto done = c.record.is_folder ? restore_folder(c) : restore_file(c); !done) stopped = done.error();
            return !stopped && !report_.interrupted;
        }));
        report_.stopped = stopped;
        if (stopped && log_) log_->error("stopped: {}", stopped->line());
        return {};
    }

    fs::path place_for(const Candidate& c) const {
        const auto folder = folder_for_.find(c.volume);
        return (folder == folder_for_.end() ? fs::path() : folder->second) / safe_path(c.record.path());
    }

    Result<void> restore_folder(const Candidate& c) {
        const fs::path relative = place_for(c);
        std::error_code failed;
        if (!request_.dry_run) {
            fs::create_directories(request_.destination / relative, failed);
            folders_.emplace_back(request_.destination / relative, c.record);
        }
        return record_outcome(c, relative, failed ? Outcome::failed : Outcome::whole, failed ? failed.message() : "",
                              nullptr);
    }

    Result<void> restore_file(Candidate c) {
        if (is_done_already(c)) return record_outcome(c, place_for(c), Outcome::already, "", nullptr);
        fs::path target = request_.destination / place_for(c);
        std::error_code failed;
        if (fs::exists(fs::symlink_status(target, failed)) || promised_.contains(target)) {
            const bool is_folder = fs::is_directory(target, failed);
            if (request_.if_exists == IfExists::skip)
                return record_outcome(c, place_for(c), Outcome::skipped, "a file of that name is there", nullptr);
            if (request_.if_exists == IfExists::number || is_folder || promised_.contains(target))
                target = free_name(target, promised_);
        }
        promised_.insert(target);
        const fs::path relative = target.lexically_relative(request_.destination);
        const auto medium = media_.find(c.volume);
        if (medium == media_.end())
            return record_outcome(c, relative, Outcome::failed, "its volume is not in the catalog", nullptr);
        if (c.record.size > 0 && c.record.layout.empty())
            return record_outcome(c, relative, Outcome::failed, "nothing tells where its content lies", nullptr);
        if (request_.dry_run) return record_outcome(c, relative, expected(c), "", nullptr);
        if (can_be_checked(c)) {
            check_content(medium->second, c);
            learnt_.push_back(c);
        }

        fs::create_directories(target.parent_path(), failed);
        auto written = write_file(medium->second, c.record, target, [&](std::uint64_t bytes) {
            report_.written += bytes;
            observer_.progress({"restoring", report_.written, report_.bytes, "bytes", 0});
            return !observer_.should_stop();
        });
        if (!written) {
            DREDGER_CHECK(record_outcome(c, relative, Outcome::failed, written.error().what, nullptr));
            return is_fatal() ? tl::unexpected<Error>(written.error()) : Result<void>();
        }
        if (written->interrupted) {
            report_.interrupted = true;
            return {};
        }
        set_mode_and_times(target, c.record);
        std::string gaps;
        for (const Extent& gap : written->gaps)
            gaps += fmt::format("{}{}+{}", gaps.empty() ? "bytes not had: " : ", ", gap.offset, gap.length);
        const Outcome outcome = written->missing > 0 ? Outcome::partial : expected(c);
        return record_outcome(c, relative, outcome, gaps, &*written);
    }

    static Outcome expected(const Candidate& c) {
        return c.prospect.band == Band::sound ? Outcome::whole : Outcome::doubtful;
    }

    // Where the destination is full, what follows would only fail too.
    bool is_fatal() const {
        struct statvfs space {};
        return ::statvfs(request_.destination.c_str(), &space) != 0 || space.f_bavail * space.f_frsize < kSpare;
    }

    bool is_done_already(const Candidate& c) const {
        const ManifestRow* row = manifest_ ? manifest_->find(catalog_name_, c.id) : nullptr;
        if (row == nullptr || row->sha256.empty() || row->original_path != c.record.path()) return false;
        std::error_code failed;
        return fs::file_size(request_.destination / row->restored_path, failed) == c.record.size && !failed;
    }

    Result<void> record_outcome(const Candidate& c, const fs::path& relative, Outcome outcome, const std::string& why,
                                const WrittenFile* written) {
        ++count(outcome);
        observer_.item({c, relative, outcome, why});
        if (!manifest_ || outcome == Outcome::already) return {};
        log_->log(outcome == Outcome::whole ? spdlog::level::info : spdlog::level::warn, "{} {}: {} -> {}{}{}",
                  word_for(outcome), c.id, c.record.path(), relative.string(), why.empty() ? "" : ": ", why);
        ManifestRow row;
        row.catalog = catalog_name_;
        row.id = c.id;
        row.state = word_for(c.record.state);
        row.origin = word_for(c.record.origin);
        row.prospect = c.prospect.value;
        row.band = word_for(c.prospect.band);
        row.check = word_for(c.prospect.check);
        row.original_path = c.record.path();
        row.restored_path = outcome == Outcome::failed || outcome == Outcome::skipped ? "" : relative.generic_string();
        row.size = c.record.size;
        if (written != nullptr) {
            row.restored_bytes = c.record.size - written->missing;
            row.sha256 = written->sha256;
        }
        row.outcome = word_for(outcome);
        if (c.record.modified) row.modified = iso8601(*c.record.modified);
        return manifest_->add(std::move(row));
    }

    Catalog& catalog_;
    const RestoreRequest& request_;
    RestoreObserver& observer_;
    std::string catalog_name_;
    RestoreReport report_;
    std::map<std::int64_t, std::uint64_t> selected_in_;  // by volume
    std::map<std::int64_t, MediumPtr> media_;            // by volume
    std::map<std::int64_t, fs::path> folder_for_;        // by volume
    std::vector<std::string> remarks_;                   // for the log, from before there is one
    std::vector<std::pair<fs::path, Record>> folders_;   // whose times are set when all is written
    std::vector<Learnt> learnt_;                         // of those that were checked on the way
    std::set<fs::path> promised_;                        // targets of this run
    std::optional<Manifest> manifest_;
    std::shared_ptr<spdlog::logger> log_;
};

}  // namespace

Result<RestoreReport> restore(Catalog& catalog, const RestoreRequest& request, RestoreObserver& observer) {
    return Restoration(catalog, request, observer).run();
}

}  // namespace dredger
