#include "scanning/volume_scan.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

namespace dredger {
namespace {

constexpr std::uint64_t kBatch = 20'000;   // changes that are saved together
constexpr std::uint64_t kGlance = 4'096;  // records between two looks at the clock

Fit content_fits_name(std::string_view name, ByteView head) {
    switch (judge_head(extension_of(name), head)) {
        case Agreement::agrees: return Fit::yes;
        case Agreement::fits: return Fit::likely;
        case Agreement::unknown: return Fit::unknown;
        case Agreement::disagrees:
        case Agreement::blank: break;
    }
    return Fit::no;
}

// What narrows a scan, so that a later one with other wishes is not taken for a repetition.
std::string settings_of(const ScanRequest& request) {
    nlohmann::json settings = nlohmann::json::object();
    if (!request.folder.empty()) settings["folder"] = request.folder;
    for (const Kind kind : request.kinds) settings["kind"].push_back(word_for(kind));
    for (const std::string& extension : request.extensions) settings["ext"].push_back(extension);
    if (request.code_page != CodePage::cp850) settings["code_page"] = 437;
    return settings.dump();
}

}  // namespace

Result<VolumeScan::Outcome> VolumeScan::run(std::int64_t source, const Volume& place, const MediumPtr& volume,
                                            const FileSystem& filesystem, const ScannedVolume* before) {
    row_ = {0, source, place, filesystem.facts(), false, settings_of(request_)};
    report_ = {place.number, row_.facts.filesystem, row_.facts.label, 0, 0, false};
    volume_ = volume.get();
    space_ = &filesystem.space();
    if (before != nullptr && before->done) {
        if (before->settings != row_.settings)
            return fail(ErrorKind::usage, fmt::format("volume {} is in this catalog already, scanned with other limits", place.number),
                        catalog_.path().string(), "use the same --folder, --kind and --ext, or another catalog");
        report_.was_done_before = true;
        return Outcome{report_, false};
    }
    DREDGER_CHECK(catalog_.begin());
    if (before != nullptr) DREDGER_CHECK(catalog_.remove_volume(before->id));
    DREDGER_TRY(row_.id, catalog_.add_volume(row_));
    for (const std::string& warning : row_.facts.warnings) observer_.warning(fmt::format("volume {}: {}", place.number, warning));

    WalkOptions options{request_.code_page, content_fits_name};
    std::vector<std::string> warnings;
    auto walked = filesystem.walk(options, *this, warnings);
    if (walked && !failure_ && !interrupted_) {
        if (auto judged = judge_all(); !judged) failure_ = judged.error();
    }
    if (failure_ || !walked) {
        catalog_.roll_back();
        return tl::unexpected<Error>(failure_ ? *failure_ : walked.error());
    }
    for (const std::string& warning : warnings) {
        observer_.warning(fmt::format("volume {}: {}", place.number, warning));
        row_.facts.warnings.push_back(warning);
    }
    if (!interrupted_) DREDGER_CHECK(catalog_.finish_volume(row_));
    DREDGER_CHECK(catalog_.commit());
    return Outcome{report_, interrupted_};
}

bool VolumeScan::take(Record&& record) {
    if (auto kept = keep(std::move(record)); !kept) {
        failure_ = kept.error();
        return false;
    }
    const std::uint64_t seen = report_.live + report_.deleted;
    if (seen % kGlance == 0) report_progress("reading records", seen, 0);
    interrupted_ = interrupted_ || observer_.should_stop();
    return !interrupted_;
}

bool VolumeScan::is_wanted(const Record& record) const {
    if (record.state == State::live) return true;
    const std::string extension = extension_of(record.name);
    const bool kind = request_.kinds.empty() || (!record.is_folder && request_.kinds.contains(kind_of_name(record.name)));
    const bool ending = request_.extensions.empty() ||
                        std::find(request_.extensions.begin(), request_.extensions.end(), extension) != request_.extensions.end();
    if (!kind || !ending || request_.folder.empty()) return kind && ending;
    const std::string wanted = folded(request_.folder);
    const std::string path = folded(record.path());
    return path == wanted || path.starts_with(wanted + "/");
}

Result<void> VolumeScan::keep(Record&& record) {
    ++(record.state == State::live ? report_.live : report_.deleted);
    habit_.learn(*volume_, record);
    const std::optional<FileTime> written = record.created ? record.created : record.modified;
    std::int64_t id = 0;
    Candidate candidate;
    candidate.record = std::move(record);
    const std::vector<Extent> on_volume = candidate.record.layout;
    if (is_wanted(candidate.record)) {
        candidate.volume = row_.id;
        candidate.kind = candidate.record.is_folder ? Kind::other : kind_of_name(candidate.record.name);
        const Format* format = candidate.record.is_folder ? nullptr : format_with_extension(extension_of(candidate.record.name));
        if (format != nullptr) candidate.format = format->name;
        for (Extent& extent : candidate.record.layout)
            if (!extent.is_hole()) extent.offset += row_.place.offset;
        // The others wait until every claim on their bytes is known.
        if (candidate.record.state == State::live)
            candidate.prospect = judge(gather(candidate.record, 0, claims_, *space_, *volume_, habit_), {});
        else
            candidate.prospect.reasons = candidate.record.notes;
        DREDGER_TRY(id, catalog_.add(candidate));
        DREDGER_CHECK(save_now_and_then());
    }
    for (const Extent& extent : on_volume) claims_.add({space_->whole_units(extent), id, candidate.record.state == State::live, written});
    return {};
}

Result<void> VolumeScan::judge_all() {
    claims_.seal();
    DREDGER_TRY(const auto ids, catalog_.unjudged(row_.id));
    const Namer name_of = [&](std::int64_t id) { return catalog_.name_of(id); };
    for (std::size_t n = 0; n < ids.size(); ++n) {
        if (n % kGlance == 0) report_progress("judging finds", n, ids.size());
        if (observer_.should_stop()) {
            interrupted_ = true;
            return {};
        }
        DREDGER_TRY(auto found, catalog_.find(ids[n]));
        if (!found) continue;
        Record record = std::move(found->record);
        for (Extent& extent : record.layout)
            if (!extent.is_hole()) extent.offset -= row_.place.offset;
        record.notes = std::move(found->prospect.reasons);
        const Evidence evidence = gather(record, ids[n], claims_, *space_, *volume_, habit_);
        DREDGER_CHECK(catalog_.set_prospect(ids[n], judge(evidence, name_of)));
        DREDGER_CHECK(save_now_and_then());
    }
    return {};
}

Result<void> VolumeScan::save_now_and_then() {
    if (++unsaved_ < kBatch) return {};
    unsaved_ = 0;
    DREDGER_CHECK(catalog_.commit());
    return catalog_.begin();
}

void VolumeScan::report_progress(const char* doing, std::uint64_t done, std::uint64_t total) {
    observer_.progress({doing, done, total, "records", report_.deleted});
}

}  // namespace dredger
