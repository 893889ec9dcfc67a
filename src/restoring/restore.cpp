#include "restoring/restore.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <set>

#include "base/amounts.h"
#include "base/checked.h"
#include "catalog/attaching.h"
#include "media/drives.h"
#include "restoring/books.h"
#include "restoring/crew.h"
#include "restoring/deed.h"
#include "restoring/destination.h"
#include "restoring/placer.h"
#include "restoring/planner.h"
#include "restoring/sidecar.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using namespace std::chrono_literals;

// How many files, and bytes of them, are written before the one to be placed next, where that is a large one.
constexpr std::size_t kWaiting = 16384;
constexpr std::uint64_t kWaitingBytes = 1 << 30;
// Bytes of files that get their places after the others: thousands of small ones need not wait for these.
constexpr std::uint64_t kTakesLong = 64 << 20;

class Restoration {
  public:
    Restoration(const std::vector<RestoreJob>& jobs, const RestoreRequest& request, RestoreObserver& observer)
        : request_(request), observer_(observer) {
        for (const RestoreJob& job : jobs) {
            Job& mine = jobs_.emplace_back();
            mine.catalog = job.catalog;
            mine.name = job.catalog->path().filename().string();
            mine.selection = &job.selection;
            mine.source = job.source;
        }
    }

    Result<RestoreReport> run() {
        for (Job& job : jobs_) DREDGER_CHECK(survey(job));
        std::erase_if(jobs_, [](const Job& job) { return job.files + job.folders == 0; });
        if (jobs_.empty()) return report_;
        DREDGER_CHECK(check_safe());
        // Where nothing could be had of the only medium, nothing is made in the destination either.
        if (jobs_.size() == 1) DREDGER_CHECK(attach_media(jobs_.front()));
        DREDGER_TRY(Books earlier, Books::read_only(request_.beyond));
        DREDGER_TRY(destination_, Destination::open(request_.destination, request_.dry_run));
        rules_ = request_.names.value_or(destination_->rules());
        making_time_ = making_time_of(request_.destination);
        if (!request_.dry_run) {
            DREDGER_CHECK(earlier.open(request_.destination));
            DREDGER_CHECK(destination_->make_staging());
        }
        books_ = std::move(earlier);
        landing_.emplace(request_.destination, rules_, request_.if_exists, books_->manifest(),
                         destination_->was_cut_off());
        planner_.emplace(request_, rules_, *books_, *landing_);
        if (report_.bytes > destination_->room())
            observer_.warning(
                fmt::format("the selection has {}, the destination has room for {}: it ends when it is full",
                            size_text(report_.bytes), size_text(destination_->room())));
        {
            crew_.emplace(std::thread::hardware_concurrency(), [this](Deed& deed) {
                return carry_out(deed, request_, planner_->asks_content(), making_time_, watch_);
            });
            placer_.emplace();
            auto all = restore_all();
            watch_.stop = true;
            crew_.reset();
            if (auto told = tell_unplaced(placer_->rest()); all) all = told;
            placer_.reset();
            if (!all && !request_.dry_run) destination_->clear_staging();
            DREDGER_CHECK(all);
        }
        if (report_.missing.size() == jobs_.size() && first_missing_ && report_.written == 0 &&
            report_.count(Outcome::already) == 0) {
            if (!request_.dry_run) destination_->clear_staging();
            return tl::unexpected<Error>(*first_missing_);
        }
        if (request_.dry_run) return report_;
        // As long as the folder for unfinished files is there, names may stand for content that has not arrived.
        DREDGER_CHECK(close_books());
        destination_->clear_staging();
        return report_;
    }

  private:
    // What is selected, and of which volumes.
    Result<void> survey(Job& job) {
        DREDGER_TRY(const auto totals, job.catalog->totals_of_volumes(*job.selection));
        for (const auto& [volume, of_it] : totals) {
            job.folders += of_it.folders;
            job.files += of_it.files;
            job.bytes = checked_add(job.bytes, of_it.bytes).value_or(job.bytes);
            job.wanted.insert(volume);
        }
        report_.files += job.files;
        report_.folders += job.folders;
        report_.bytes += job.bytes;
        return {};
    }

    // None of the media may be harmed, those neither that come later.
    Result<void> check_safe() {
        for (const Job& job : jobs_) {
            DREDGER_TRY(const auto sources, job.catalog->sources());
            for (const ScannedSource& source : sources) {
                const fs::path place = job.source.empty() ? fs::path(source.path) : job.source;
                for (std::string& warning : warnings_of_writing(place)) remarks_.push_back(std::move(warning));
                if (!request_.onto_same_drive) DREDGER_CHECK(refuse_danger(request_.destination, {place}));
            }
        }
        for (const std::string& remark : remarks_) observer_.warning(remark);
        std::set<std::string> names;
        for (const Job& job : jobs_)
            if (!names.insert(job.name).second)
                return fail(ErrorKind::usage, "two catalogs have the same name", job.name,
                            "the manifest could not tell them apart: rename one, or restore them one by one");
        return {};
    }

    Result<void> attach_media(Job& job) {
        AttachRequest request{job.source, request_.destination, request_.onto_same_drive, request_.from_changed_source};
        request.missing = [&](const ScannedSource& source, const Error& why) {
            return observer_.missing_medium({job.catalog->path(), source, job.files, why});
        };
        DREDGER_TRY(Attached attached, attach(*job.catalog, job.wanted, request));
        if (attached.first_missing) {
            if (!first_missing_) first_missing_ = attached.first_missing;
            report_.missing.push_back(fmt::format("{}: {}", job.name, attached.first_missing->line()));
            if (attached.media.empty() && jobs_.size() == 1) return tl::unexpected<Error>(*attached.first_missing);
        }
        job.media = std::move(attached.media);
        for (const auto& [volume, medium] : job.media) {
            auto& presence = job.presence[volume] = std::make_unique<Presence>(medium);
            DREDGER_CHECK(presence->check());
        }
        for (const std::string& remark : attached.remarks) {
            observer_.warning(remark);
            remarks_.push_back(remark);
        }
        DREDGER_TRY(const auto volumes, job.catalog->volumes());
        for (const ScannedVolume& volume : volumes) {
            job.volumes[volume.id] = name_of_volume(volume);
            if (!request_.volume_folders) continue;
            const fs::path above = jobs_.size() > 1 ? mapped_part(fs::path(job.name).stem().string(), rules_) : "";
            job.folder_for[volume.id] = above / mapped_part(name_of_volume(volume), kWindowsNames);
        }
        return {};
    }

    Result<void> close_books() {
        // The innermost first: writing into a folder changes its time.
        std::reverse(folders_.begin(), folders_.end());
        for (const auto& [folder, record] : folders_) set_folder_facts(folder, record, making_time_);
        if (request_.verify) books_->read_rest([this] { return observer_.should_stop(); });
        report_.spoiled = books_->spoiled();
        DREDGER_CHECK(books_->close());
        books_->note(fmt::format(
            "done: {} whole, {} doubtful, {} partial, {} skipped, {} already there, {} failed; {} bytes written{}",
            report_.count(Outcome::whole), report_.count(Outcome::doubtful), report_.count(Outcome::partial),
            report_.count(Outcome::skipped), report_.count(Outcome::already), report_.count(Outcome::failed),
            report_.written, report_.interrupted ? "; interrupted" : ""));
        return {};
    }

    void note_start(const Job& job) {
        books_->note(fmt::format("restore from {} to {}: {} files, {} folders, {} bytes", job.catalog->path().string(),
                                 request_.destination.string(), job.files, job.folders, job.bytes));
        for (const std::string& remark : remarks_) books_->note(remark, true);
        remarks_.clear();
    }

    Result<void> restore_all() {
        for (Job& job : jobs_) {
            if (jobs_.size() > 1) DREDGER_CHECK(attach_media(job));
            note_start(job);
            std::optional<Error> failure;
            DREDGER_CHECK(job.catalog->each(*job.selection, Order{Order::By::path}, true, [&](Candidate& c) {
                if (observer_.should_stop()) report_.interrupted = true;
                if (is_over()) return false;
                if (auto done = c.record.is_folder ? make_folder(job, c) : begin_file(job, c); !done)
                    failure = done.error();
                return !failure && !is_over();
            }));
            // Also after a failure, what is read already is put in its place.
            while (crew_->waiting() > 0 && !failure)
                if (auto done = place_next(); !done) failure = done.error();
            job.catalog->keep(job.learnt);
            job.media.clear();
            if (failure) return tl::unexpected<Error>(*failure);
            if (is_over()) break;
        }
        if (!report_.stopped) return {};
        report_.remaining_files = report_.files - seen_files_;
        report_.remaining_bytes = report_.bytes - std::min(report_.bytes, seen_bytes_);
        report_.stopped->what =
            fmt::format("the destination is full: {} {} of {} remain", report_.remaining_files,
                        report_.remaining_files == 1 ? "file" : "files", size_text(report_.remaining_bytes));
        books_->note("stopped: " + report_.stopped->line(), true);
        return {};
    }

    bool is_over() const { return report_.interrupted || report_.stopped; }

    Result<void> make_folder(Job& job, const Candidate& c) {
        // Other arrangements have folders of their own.
        if (request_.arrangement != Arrangement::tree || request_.rename) return {};
        const fs::path relative =
            landing_->folder_for(Planner::folder_for(job, c) / mapped_path(c.record.path(), rules_));
        std::error_code failed;
        if (!request_.dry_run) {
            failed = landing_->make_folder(relative);
            if (!failed) folders_.emplace_back(request_.destination / relative, c.record);
        }
        return tell(job, c, relative, failed ? Outcome::failed : Outcome::whole, failed ? failed.message() : "",
                    nullptr);
    }

    // A file is either done with here, or given to those who read and write.
    Result<void> begin_file(Job& job, Candidate& c) {
        Plan plan = planner_->plan(job, c);
        if (plan.refusal) {
            seen(c);
            return tell(job, c, plan.place, plan.refusal->outcome, plan.refusal->why, nullptr);
        }
        const MediumPtr medium = job.media.at(c.volume);
        if (request_.dry_run) {
            seen(c);
            if (!planner_->asks_content()) return pretend(job, c, plan.place);
            const Description said = described(medium, c, [this] { return observer_.should_stop(); });
            return pretend(job, c, planner_->wanted(job, c, &said, plan.number));
        }
        DREDGER_TRY(const bool has_room, wait_for_room(plan.bytes));
        if (!has_room) return {};
        seen(c);
        in_hand_ += plan.bytes;
        const bool takes_long = c.record.size >= kTakesLong;
        const fs::path staged = destination_->staging_name(plan.number);
        crew_->give({&job, std::move(c), medium, staged, std::move(plan)}, takes_long);
        return {};
    }

    // Places what is in hand until there is room for so much more; false: there will be none, or it is over.
    Result<bool> wait_for_room(std::uint64_t bytes) {
        const auto is_much = [&] {
            return crew_->waiting() > 0 && (crew_->waiting() >= kWaiting || in_hand_ + bytes > kWaitingBytes);
        };
        while (is_much() || !destination_->takes(bytes, in_hand_)) {
            if (crew_->waiting() == 0) {
                stop_as_full();
                return false;
            }
            DREDGER_CHECK(place_next());
            if (is_over()) return false;
        }
        return true;
    }

    void seen(const Candidate& c) {
        ++seen_files_;
        seen_bytes_ += c.record.size;
    }

    void stop_as_full() {
        report_.stopped = Error{ErrorKind::gave_out, "the destination is full", request_.destination.string(),
                                fmt::format("go on elsewhere: the same command with --to ELSEWHERE --after {}",
                                            request_.destination.string())};
    }

    // Waits for the oldest file in hand, and puts it in its place.
    Result<void> place_next() {
        for (;;) {
            auto next = crew_->take(200ms);
            report_.written = watch_.written;
            observer_.progress({"restoring", report_.written, std::max(report_.bytes, report_.written), "bytes", 0});
            if (observer_.should_stop()) {
                report_.interrupted = true;
                watch_.stop = true;
            }
            if (!next) {
                if (crew_->waiting() == 0) return {};
                continue;
            }
            in_hand_ -= next->first.plan.bytes;
            return place(next->first, next->second);
        }
    }

    Result<void> place(Deed& deed, Done& done) {
        Job& job = *deed.job;
        const Candidate& c = deed.candidate;
        if (done.is_learnt) job.learnt.push_back(c);
        fs::path relative =
            planner_->asks_content() ? planner_->wanted(job, c, &done.said, deed.plan.number) : deed.plan.place;
        if (done.is_left_out) return tell(job, c, relative, Outcome::skipped, "it is not believed whole", nullptr);
        if (!done.written) {
            const bool full = destination_->room() == 0;
            if (full) stop_as_full();
            return tell(job, c, relative, Outcome::failed, done.written.error().what, nullptr);
        }
        WrittenFile& written = *done.written;
        if (written.interrupted) return {};
        // What a medium that has gone could not give is not lost: it is restored when the medium is back.
        if (written.missing > 0) DREDGER_CHECK(job.presence.at(c.volume)->check());
        if (done.is_misread)
            return tell(job, c, relative, Outcome::failed, "what was read back is not what was written", nullptr);
        const Outcome outcome = written.missing > 0 ? Outcome::partial : expected(c);
        const bool is_aside = request_.partials == Partials::aside && outcome != Outcome::whole;
        if (written.missing > 0 && request_.partials == Partials::skip)
            return tell(job, c, relative, Outcome::skipped, "not all of its bytes could be read", nullptr);
        if (is_aside) relative = kAsideFolder / relative;
        Arrival arrival{
            job.name,    c.id,
            relative,    c.record.modified,
            written.sum, standing_of(outcome, c.prospect.check, c.prospect.value, c.record.size - written.missing),
            deed.staged};
        const Landed landed = landing_->settle(arrival);
        if (landed.how == Landed::How::refused)
            return tell(job, c, landed.place, Outcome::skipped, landed.why, nullptr);
        if (landed.loser) {
            DREDGER_TRY(const auto before, books_->enter_replaced(*landed.loser, landed.place));
            ++report_.counts[static_cast<std::size_t>(Outcome::skipped)];
            if (before && report_.count(*before) > 0) --report_.counts[static_cast<std::size_t>(*before)];
        }

        const fs::path target = request_.destination / landed.place;
        landing_->make_folder(landed.place.parent_path());
        std::string gaps;
        for (const Extent& gap : written.gaps)
            gaps += fmt::format("{}{}+{}", gaps.empty() ? "bytes not had: " : ", ", gap.offset, gap.length);
        if (is_aside) DREDGER_CHECK(write_sidecar(target, *job.catalog, c, written.gaps));
        // The row comes first: a run that is ended between the two finds no file, and restores it again to this place.
        DREDGER_CHECK(tell(job, c, landed.place, outcome, gaps, &written));
        placer_->give({std::move(written.file),
                       {request_.destination, landed.place},
                       job.name,
                       std::move(deed.candidate),
                       outcome});
        return tell_unplaced(placer_->failures());
    }

    // Those that the destination did not let have their names.
    Result<void> tell_unplaced(std::vector<Placer::Failure> failures) {
        for (auto& [lost, why] : failures) {
            if (destination_->room() == 0) stop_as_full();
            --report_.counts[static_cast<std::size_t>(lost.outcome)];
            ++report_.counts[static_cast<std::size_t>(Outcome::failed)];
            observer_.item({lost.candidate, lost.target.relative, Outcome::failed, why.what});
            DREDGER_CHECK(
                books_->enter(lost.catalog, lost.candidate, lost.target.relative, Outcome::failed, why.what, nullptr));
        }
        return {};
    }

    Result<void> pretend(Job& job, const Candidate& c, fs::path relative) {
        const Outcome outcome = expected(c);
        if (request_.partials == Partials::aside && outcome != Outcome::whole) relative = kAsideFolder / relative;
        const Landed landed = landing_->settle({job.name,
                                                c.id,
                                                relative,
                                                c.record.modified,
                                                "",
                                                standing_of(outcome, c.prospect.check, c.prospect.value, c.record.size),
                                                {}});
        const bool refused = landed.how == Landed::How::refused;
        return tell(job, c, landed.place, refused ? Outcome::skipped : outcome, landed.why, nullptr);
    }

    Result<void> tell(const Job& job, const Candidate& c, const fs::path& relative, Outcome outcome,
                      const std::string& why, const WrittenFile* written) {
        ++report_.counts[static_cast<std::size_t>(outcome)];
        observer_.item({c, relative, outcome, why});
        return books_->enter(job.name, c, relative, outcome, why, written);
    }

    const RestoreRequest& request_;
    RestoreObserver& observer_;
    std::vector<Job> jobs_;
    RestoreReport report_;
    NameRules rules_;
    MakingTime making_time_ = MakingTime::none;
    std::optional<Destination> destination_;
    std::optional<Books> books_;
    std::optional<Landing> landing_;
    std::optional<Planner> planner_;
    std::vector<std::string> remarks_;                     // for the log, from before there is one
    std::vector<std::pair<fs::path, FileEntry>> folders_;  // whose times are set when all is written
    std::optional<Error> first_missing_;
    std::uint64_t seen_files_ = 0, seen_bytes_ = 0;  // done with, or in hand
    std::uint64_t in_hand_ = 0;                      // bytes that those read ahead take
    WritingWatch watch_;
    std::optional<Crew<Deed, Done>> crew_;  // these two last: they end before what they use
    std::optional<Placer> placer_;
};

}  // namespace

Result<RestoreReport> restore(const std::vector<RestoreJob>& jobs, const RestoreRequest& request,
                              RestoreObserver& observer) {
    return Restoration(jobs, request, observer).run();
}

}  // namespace dredger
