#include "repairing/repair.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/beneath.h"
#include "base/text.h"
#include "catalog/taken_over.h"
#include "formats/format.h"
#include "media/content.h"
#include "media/file_medium.h"
#include "media/medium_sum.h"
#include "repairing/look.h"
#include "repairing/repairs_table.h"
#include "restoring/manifest.h"
#include "restoring/names.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using repairing::Damaged;
using repairing::Mended;
using repairing::Mender;
using repairing::Outcome;
using repairing::RepairsTable;
using repairing::Workbench;

// A file to be mended, which is opened when its turn comes.
struct Task {
    std::string file;  // for the table
    fs::path place;    // of the result, below the destination
    std::function<Result<Damaged>()> open;
    bool was_named = true;  // false: it lies in a folder that was named
    std::optional<std::pair<std::string, std::int64_t>> find = std::nullopt;  // its catalog's name, and its ID
    const Mender* mender = nullptr;                                           // once that is known
};

class Run {
  public:
    Run(const RepairRequest& request, RepairObserver& observer)
        : request_(request), observer_(observer), rules_(rules_of(request.destination)) {}

    Result<RepairReport> go() {
        DREDGER_CHECK(refuse_beside_sources(request_.destination, "--to"));
        if (!request_.look.empty()) DREDGER_CHECK(refuse_beside_sources(request_.look, "--look"));
        for (const fs::path& file : request_.files) DREDGER_CHECK(add(file));
        for (const RepairRequest::Finds& finds : request_.finds) DREDGER_CHECK(add(finds));
        std::vector<repairing::Reference> references;
        for (const fs::path& file : request_.references) {
            DREDGER_TRY(const auto medium, FileMedium::open(file));
            references.push_back({medium, file.filename().string()});
        }
        std::error_code failed;
        fs::create_directories(request_.destination, failed);
        if (failed)
            return fail(ErrorKind::output, "the folder for results can't be made: " + failed.message(),
                        request_.destination.string(), "choose a folder that is yours");
        DREDGER_TRY(table_, RepairsTable::open(request_.destination / kRepairTable));
        if (fs::exists(request_.destination / "manifest.csv", failed)) {
            DREDGER_TRY(manifest_, Manifest::open(request_.destination));
        }
        if (!request_.look.empty()) {
            DREDGER_TRY(look_, repairing::LookPage::create(request_.look));
        }
        Workbench bench(request_.destination, references, [&] { return observer_.should_stop(); });
        const std::vector<Task> tasks = std::move(tasks_);
        DREDGER_CHECK(each(tasks, "repairing", [&](const Task& task) { return mend(task, bench); }));
        // What wants a reference may find one among the files that turned out to be whole.
        if (!waiting_.empty() && !is_over()) {
            is_last_try_ = true;
            DREDGER_CHECK(add_live_files());
            const std::vector<Task> waiting = std::move(waiting_);
            DREDGER_CHECK(each(waiting, "repairing with references", [&](const Task& task) {
                bench.set_references(references_for(task, references));
                return mend(task, bench);
            }));
        }
        stop_if_unwritten(table_.finish());
        if (manifest_) stop_if_unwritten(manifest_->finish(manifest_->final_form()));
        if (look_) {
            const auto page = look_->finish();
            if (page)
                report_.page = *page;
            else
                stop_if_unwritten(tl::unexpected(page.error()));
        }
        return report_;
    }

  private:
    Result<void> refuse_beside_sources(const fs::path& written, std::string_view option) const {
        std::error_code failed;
        const fs::path to = fs::weakly_canonical(written, failed);
        for (const fs::path& file : request_.files) {
            const fs::path source = fs::weakly_canonical(file, failed);
            const fs::path folder = fs::is_directory(source, failed) ? source : source.parent_path();
            const bool lies_within =
                fs::is_directory(source, failed) &&
                std::mismatch(source.begin(), source.end(), to.begin(), to.end()).first == source.end();
            if (to == folder || lies_within)
                return fail(ErrorKind::unsafe, "results would lie among the damaged files", written.string(),
                            fmt::format("choose another folder with {}", option));
        }
        return {};
    }

    static Result<Damaged> open_file(const fs::path& file) {
        DREDGER_TRY(const auto medium, FileMedium::open(file));
        return Damaged{medium, file.filename().string(), {}};
    }

    Result<void> add(const fs::path& file) {
        std::error_code failed;
        if (fs::is_regular_file(file, failed) && fs::is_empty(file, failed)) {
            report_.missing.push_back(file.string() + " is empty");
            return {};
        }
        if (!fs::is_directory(file, failed)) {
            DREDGER_CHECK(FileMedium::open(file));
            tasks_.push_back(
                {file.string(), mapped_path(file.filename().string(), rules_), [file] { return open_file(file); }});
            return {};
        }
        std::vector<fs::path> below;
        for (const auto& entry :
             fs::recursive_directory_iterator(file, fs::directory_options::skip_permission_denied, failed))
            if (!entry.is_symlink(failed) && entry.is_regular_file(failed) && entry.file_size(failed) > 0)
                below.push_back(entry.path());
        if (failed) return fail(ErrorKind::unreadable, "this folder can't be read: " + failed.message(), file.string());
        std::sort(below.begin(), below.end());
        for (const fs::path& one : below)
            tasks_.push_back({one.string(), mapped_path(one.lexically_relative(file).string(), rules_),
                              [one] { return open_file(one); }, false});
        return {};
    }

    Result<void> add(const RepairRequest::Finds& finds) {
        std::vector<Candidate> chosen;
        std::set<std::int64_t> volumes;
        DREDGER_CHECK(finds.catalog->each(finds.selection, Order(), true, [&](const Candidate& c) {
            if (c.record.is_folder || c.record.size == 0 || c.layout.empty()) return true;
            volumes.insert(c.volume);
            chosen.push_back(c);
            return true;
        }));
        DREDGER_TRY(const Attached attached, attach(*finds.catalog, volumes, finds.attach));
        for (const std::string& remark : attached.remarks) observer_.warning(remark);
        if (attached.first_missing) report_.missing.push_back(attached.first_missing->line());
        const std::string catalog = finds.catalog->path().string();
        for (Candidate& candidate : chosen) {
            const auto medium = attached.media.find(candidate.volume);
            if (medium == attached.media.end()) continue;
            const FileEntry& record = candidate.record;
            const fs::path place = mapped_path(joined(record.folder, record.name), rules_);
            tasks_.push_back({fmt::format("{}:{}", catalog, candidate.id), place,
                              [whole = medium->second, candidate, from = finds.catalog] {
                                  return open_find(whole, candidate, *from);
                              },
                              finds.selection.ids.size() == 1,
                              std::pair{finds.catalog->path().filename().string(), candidate.id}});
        }
        return {};
    }

    // What live files have taken over of a find is not its own, up to the end of their last sectors.
    static Result<Damaged> open_find(const MediumPtr& whole, const Candidate& candidate, const Catalog& catalog) {
        Damaged file{open_content(whole, candidate.layout, candidate.record.size), candidate.record.name, {}};
        if (candidate.record.state == State::live || candidate.prospect.check == Check::verified) return file;
        DREDGER_TRY(const auto taken, taken_over(catalog, candidate));
        const std::uint64_t sector = whole->sector_size();
        for (const TakenOver& one : taken) {
            const std::uint64_t end = (one.range.end() + sector - 1) / sector * sector;
            file.holes.push_back({one.range.offset, std::min(end, candidate.record.size) - one.range.offset});
        }
        return file;
    }

    template <class Visit>
    Result<void> each(const std::vector<Task>& tasks, const char* doing, const Visit& visit) {
        std::uint64_t done = 0;
        for (const Task& task : tasks) {
            report_.interrupted = report_.interrupted || observer_.should_stop();
            if (is_over()) break;
            observer_.progress({doing, done++, tasks.size(), "files", report_.count(Outcome::mended)});
            const Result<void> made = visit(task);
            if (!made && made.error().kind != ErrorKind::output && made.error().kind != ErrorKind::gave_out)
                return made;
            stop_if_unwritten(made);
        }
        return {};
    }

    bool is_over() const { return report_.interrupted || report_.stopped; }
    void stop_if_unwritten(const Result<void>& written) {
        if (!written && !report_.stopped) report_.stopped = written.error();
    }

    // Live files of the catalogs, of the kinds that can help, as further ones to learn from.
    Result<void> add_live_files() {
        constexpr std::size_t kMost = 24;  // of each catalog
        for (const RepairRequest::Finds& finds : request_.finds) {
            Selection live;
            live.states = {State::live};
            live.kinds = {Kind::picture, Kind::video, Kind::audio};
            std::vector<Candidate> chosen;
            std::set<std::int64_t> volumes;
            DREDGER_CHECK(finds.catalog->each(live, Order(), true, [&](const Candidate& c) {
                if (c.record.is_folder || c.record.size == 0 || c.layout.empty()) return true;
                volumes.insert(c.volume);
                chosen.push_back(c);
                return chosen.size() < kMost;
            }));
            DREDGER_TRY(const Attached attached, attach(*finds.catalog, volumes, finds.attach));
            for (const Candidate& candidate : chosen)
                if (const auto medium = attached.media.find(candidate.volume); medium != attached.media.end())
                    whole_.push_back({std::nullopt, [whole = medium->second, candidate, from = finds.catalog] {
                                          return open_find(whole, candidate, *from);
                                      }});
        }
        return {};
    }

    // Those that were given, and whole files of the same family.
    std::vector<repairing::Reference> references_for(const Task& task, const std::vector<repairing::Reference>& given) {
        constexpr std::size_t kMost = 64;
        std::vector<repairing::Reference> references = given;
        for (Whole& whole : whole_) {
            if (references.size() >= given.size() + kMost) break;
            if (whole.mender && *whole.mender != task.mender) continue;
            const auto opened = whole.open();
            if (!opened || !opened->holes.empty()) continue;
            if (!whole.mender) whole.mender = repairing::mender_for(*opened);
            if (*whole.mender == task.mender) references.push_back({opened->content, opened->name});
        }
        return references;
    }

    Result<void> mend(const Task& task, Workbench& bench) {
        if (table_.is_mended(task.file)) {
            ++report_.already;
            return {};
        }
        auto file = task.open();
        const Result<void> read =
            file ? file->find_holes([&] { return observer_.should_stop(); }) : tl::unexpected(file.error());
        if (!read && read.error().kind == ErrorKind::interrupted) {
            report_.interrupted = true;
            return {};
        }
        if (!read) {
            report_.missing.push_back(read.error().line());
            return {};
        }
        const bool is_gone = file->touches_hole(0, 1) && file->holes.front().length == file->content->size();
        const Mender* mender = is_gone ? nullptr : task.mender != nullptr ? task.mender : repairing::mender_for(*file);
        if (mender == nullptr && !is_gone && !task.was_named) {
            ++report_.left_out;
            return {};
        }
        RepairedItem item;
        item.file = task.file;
        if (is_gone) {
            item.what = "nothing of it is its own any more: other files lie on its place, or none of it can be read";
        } else if (mender == nullptr) {
            item.what = "it shows no format that can be repaired";
        } else {
            auto mended = mender->mend(*file, bench);
            if (!mended && mended.error().kind == ErrorKind::interrupted) {
                report_.interrupted = true;
                return {};
            }
            if (!mended) return tl::unexpected(mended.error());
            if (mended->outcome == Outcome::whole) whole_.push_back({mender, task.open});
            if (mended->outcome == Outcome::wants_reference && !is_last_try_) {
                waiting_.push_back(task);
                waiting_.back().mender = mender;
                return {};
            }
            DREDGER_CHECK(keep(task, *mended, item));
            if (look_ && item.outcome != Outcome::whole) {
                const MediumPtr after = mended->result ? mended->result->content() : nullptr;
                look_->add(item, *file->content, after.get());
            }
        }
        DREDGER_CHECK(table_.add(item));
        if (task.find && !item.result.empty()) DREDGER_CHECK(tell_manifest(*task.find, item.result));
        ++report_.files;
        ++report_.outcomes[static_cast<std::size_t>(item.outcome)];
        observer_.item(item);
        return {};
    }

    Result<void> keep(const Task& task, Mended& mended, RepairedItem& item) {
        item.format = mended.format;
        item.outcome = mended.outcome;
        item.kept = mended.kept;
        item.of = mended.of;
        item.unit = mended.unit;
        std::vector<std::string> sentences = std::move(mended.what);
        if (mended.result) {
            fs::path place = task.place;
            if (!mended.extension.empty()) place.replace_extension(mended.extension);
            if (const MediumPtr made = mended.result->content())
                item.sha256 = sha256_of(*made, made->size()).value_or("");
            // Tried again with nothing new to help it comes out as before.
            item.result = table_.earlier_result(item.file, item.sha256);
            if (item.result.empty()) {
                DREDGER_TRY(item.result, place_output(*mended.result, place));
            }
        }
        for (Mended::Beside& beside : mended.beside) {
            fs::path place = task.place;
            place.replace_filename(task.place.stem().string() + beside.name);
            DREDGER_TRY(const std::string name, place_output(beside.output, place));
            sentences.push_back("beside it: " + name);
        }
        item.what = fmt::format("{}", fmt::join(sentences, "; "));
        return {};
    }

    // Where a restore has put the file as it is into the same folder its row says that there is a better one.
    Result<void> tell_manifest(const std::pair<std::string, std::int64_t>& find, const std::string& result) {
        constexpr std::string_view kRepaired = "repaired as ";
        const ManifestRow* restored = manifest_ ? manifest_->find(find.first, find.second) : nullptr;
        if (restored == nullptr) return {};
        ManifestRow row = *restored;
        row.facts.resize(std::min(row.facts.size(), row.facts.find(kRepaired)));
        if (!row.facts.empty() && !row.facts.ends_with("; ")) row.facts += "; ";
        row.facts += std::string(kRepaired) + result;
        return manifest_->add(std::move(row));
    }

    Result<std::string> place_output(repairing::Output& output, const fs::path& place) const {
        std::error_code failed;
        failed = make_folder_beneath({request_.destination, place.parent_path()});
        for (unsigned number = 1;; ++number) {
            fs::path tried = place;
            if (number > 1) tried.replace_filename(numbered_name(place.filename().string(), number));
            DREDGER_TRY(const bool is_placed, output.place(request_.destination / tried));
            if (is_placed) return tried.string();
        }
    }

    const RepairRequest& request_;
    RepairObserver& observer_;
    NameRules rules_;
    std::optional<Manifest> manifest_;  // of a restore into the same folder
    std::vector<Task> tasks_;
    // Files that nothing is wrong with, for others to learn from.
    struct Whole {
        std::optional<const Mender*> mender;  // none: not looked at yet
        std::function<Result<Damaged>()> open;
    };
    std::vector<Whole> whole_;
    std::vector<Task> waiting_;  // for a reference
    bool is_last_try_ = false;
    RepairsTable table_;
    std::optional<repairing::LookPage> look_;
    RepairReport report_;
};

}  // namespace

Result<RepairReport> repair(const RepairRequest& request, RepairObserver& observer) {
    return Run(request, observer).go();
}

}  // namespace dredger
