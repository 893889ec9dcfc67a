#include "scanning/volume_scan.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/checked.h"
#include "checking/checking.h"
#include "scanning/housekeeping.h"
#include "scanning/narrowing.h"
#include "volumes/mapping.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kBatch = 20'000;      // changes that are saved together
constexpr std::uint64_t kTrustedShare = 100;  // of live bytes, one of so many may lie on free clusters
constexpr int kMostInDamagedState = 50;       // prospect of what may be today's bytes in part
constexpr std::uint64_t kGlance = 4'096;      // records between two looks at the clock

void tell_format(Candidate& candidate) {
    if (candidate.record.is_folder) return;
    const Format* format = format_with_extension(extension_of(candidate.record.name));
    candidate.kind = format != nullptr ? format->kind : Kind::other;
    candidate.format = format != nullptr ? format->name : "";
}

}  // namespace

namespace {

// Sectors of the last cluster that lie behind the end of a file are its own, but nothing was written there.
std::uint64_t unwritten_in(const Extent& units, const Extent& extent) {
    constexpr std::uint64_t kSector = 512;
    if (!extent.is_stored() || !units.is_stored()) return 0;
    const std::uint64_t written = divide_up(extent.end(), kSector) * kSector;
    return units.end() > written ? units.end() - written : 0;
}

}  // namespace

Agreement head_for_name(std::string_view name, ByteView head) { return judge_head(extension_of(name), head); }

Result<VolumeScan::Outcome> VolumeScan::run(const Volume& place, const MediumPtr& volume,
                                            const FileSystem& filesystem) {
    DREDGER_TRY(const auto before, session_.known(place));
    row_ = {0, session_.source, place, filesystem.facts(), false, false, true, find_, narrowing_of(request_)};
    report_.number = place.number;
    report_.is_lost = place.table == TableKind::lost;
    report_.is_mountable = row_.facts.is_mountable;
    report_.filesystem = row_.facts.filesystem;
    report_.label = row_.facts.label;
    volume_ = volume;
    space_ = today_ != nullptr ? &today_->space() : &filesystem.space();
    if (before && before->done) {
        if (!reads_names_alike(before->settings, row_.settings))
            return fail(
                ErrorKind::usage,
                fmt::format("volume {} is in this catalog already, scanned with another code page", place.number),
                catalog_.path().string(), "use the same --code-page, or another catalog");
        renews_ = before->has_more && !point_;
        if (renews_ && !keeps_all_of(row_.settings, before->settings))
            return fail(ErrorKind::usage,
                        fmt::format("volume {} is to be read again, and more of it was kept than is asked for now",
                                    place.number),
                        catalog_.path().string(), "run the first scan's command once more");
        report_.was_done_before = !before->has_more && keeps_all_of(before->settings, row_.settings);
        if (report_.was_done_before) return Outcome{report_, false};
    }
    DREDGER_TRY(waiting_, Spool::open(fs::absolute(catalog_.path()).parent_path()));
    DREDGER_CHECK(catalog_.begin());
    // The states of a volume are told by what differs from today's records, which have become more.
    const bool goes_on = before && before->done && !point_;
    if (goes_on) {
        row_.id = before->id;
        DREDGER_CHECK(learn_kept());
    } else {
        if (before) DREDGER_CHECK(catalog_.remove_volume(before->id));
        DREDGER_TRY(row_.id, catalog_.add_volume(row_));
    }
    DREDGER_TRY(next_id_, catalog_.next_id());
    if (today_ != nullptr) DREDGER_CHECK(claim_for_today());
    for (const std::string& warning : row_.facts.warnings)
        observer_.warning(fmt::format("volume {}: {}", place.number, warning));

    WalkOptions options;
    options.code_page = request_.code_page;
    options.snapshots = request_.snapshots;
    options.head_for_name = head_for_name;
    const Budget::Stop stop = [this] { return observer_.should_stop(); };
    options.content_end = [stop](std::string_view name, const Medium& content) {
        return content_end(name, content, stop);
    };
    options.content_length = [stop](std::string_view name, const Medium& content) {
        return content_length(name, content, stop);
    };
    options.go_on = [this](const char* doing, std::uint64_t done, std::uint64_t total) {
        observer_.progress({doing, done, total, "records", 0});
        interrupted_ = interrupted_ || observer_.should_stop();
        return !interrupted_;
    };
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
    row_.map_is_trusted = live_on_free_ * kTrustedShare <= live_bytes_;
    if (!interrupted_ && renews_) DREDGER_CHECK(remove_what_is_no_more());
    if (!interrupted_) DREDGER_CHECK(catalog_.finish_volume(row_));
    DREDGER_CHECK(catalog_.commit());
    return Outcome{report_, interrupted_};
}

bool VolumeScan::take(Record&& record) {
    if (auto kept = keep(std::move(record)); !kept) {
        failure_ = kept.error();
        return false;
    }
    const std::uint64_t seen = report_.live + report_.deleted + report_.trashed;
    if (seen % kGlance == 0) report_progress("reading records", seen, 0);
    interrupted_ = interrupted_ || observer_.should_stop();
    return !interrupted_;
}

bool VolumeScan::is_wanted(const FileEntry& record) const {
    const auto& extensions = request_.extensions;
    if (!request_.kinds.empty() && (record.is_folder || !request_.kinds.contains(kind_of_name(record.name))))
        return false;
    if (!extensions.empty() &&
        std::find(extensions.begin(), extensions.end(), extension_of(record.name)) == extensions.end())
        return false;
    if (request_.folder.empty()) return true;
    const std::string wanted = folded(request_.folder);
    const std::string path = folded(record.path());
    return path == wanted || path.starts_with(wanted + "/");
}

// A narrowed scan is widened: what it kept stays as it is, with its number. Where the volume was not read whole, only
// the number stays.
Result<void> VolumeScan::learn_kept() {
    Selection all;
    all.states = {};
    all.origins = {Origin::record, Origin::remnant};
    all.volumes = {row_.id};
    return catalog_.each(all, Order{}, false, [&](const Candidate& c) {
        kept_[kept_key(c.record)].push_back(c.id);
        return true;
    });
}

// Not by where its content lies, nor how long it is: a deep scan may have found both out anew.
std::string VolumeScan::kept_key(const FileEntry& record) {
    const FileIdentity& identity = record.identity;
    return fmt::format("{} {} {} {} {} {}", static_cast<int>(record.origin), identity.tree, identity.number,
                       identity.generation, record.version, record.path());
}

std::int64_t VolumeScan::number_kept(std::int64_t id, const FileEntry& record) {
    if (kept_.empty()) return 0;
    const auto kept = kept_.find(kept_key(record));
    if (kept == kept_.end() || kept->second.empty()) return 0;
    const std::int64_t number = kept->second.back();
    number_kept_[id] = number;
    kept->second.pop_back();
    return number;
}

// What was made of the parts that could be read, where all can be now.
Result<void> VolumeScan::remove_what_is_no_more() {
    std::vector<Extent> bad;
    volume_->add_known_bad(0, volume_->size(), bad);
    if (!bad.empty()) return {};
    std::vector<std::int64_t> numbers;
    for (const auto& [key, left] : kept_) numbers.insert(numbers.end(), left.begin(), left.end());
    return catalog_.remove(numbers);
}

// What is there now has overwritten what was there before.
Result<void> VolumeScan::claim_for_today() {
    Selection live;
    live.states = {State::live, State::trashed};
    live.volumes = {today_row_.id};
    return catalog_.each(live, Order{}, true, [&](const Candidate& c) {
        if (c.layout.within_records) return true;
        for (const Extent& extent : c.layout.extents)
            for (const Extent& part : on_volume(row_.place, extent))
                claims_.add({space_->whole_units(part), c.id, 0, true, last_sign_of_life(c.record)});
        return true;
    });
}

Result<void> VolumeScan::keep(Record&& record) {
    if (point_) return keep_of_state(std::move(record));
    if (today_ != nullptr) {
        record.origin = Origin::remnant;
        record.notes.push_back(fmt::format("the volume held {} before; it was formatted with {} since",
                                           row_.facts.filesystem, today_row_.facts.filesystem));
        if (record.state == State::live) record.state = State::lost;
    }
    const bool holds_its_space = record.state == State::live;
    if (holds_its_space && Bins::holds(record.path())) record.state = State::trashed;
    record.is_own = record.is_own || is_housekeeping(record.path());
    const bool is_live = record.state == State::live;
    ++(is_live ? report_.live : record.state == State::trashed ? report_.trashed : report_.deleted);
    bins_.learn(record, volume_);
    habit_.learn(*volume_, record);
    const std::int64_t id = next_id_++;
    claim(record, id, holds_its_space);

    if (!is_live) return waiting_->add(id, record);
    const Prospect prospect = judge(gather(record, id, claims_, *space_, *volume_, habit_), {});
    if (was_lost(record)) record.state = State::lost;
    return store(id, std::move(record), prospect);
}

std::uint64_t VolumeScan::path_hash(const FileEntry& record) { return std::hash<std::string>()(record.path()); }

std::uint64_t VolumeScan::told_by(const FileEntry& record) {
    const std::uint64_t time = record.modified ? static_cast<std::uint64_t>(record.modified->seconds) * 1'000'000'007U +
                                                     record.modified->nanoseconds
                                               : 0;
    std::uint64_t mixed = path_hash(record);
    for (const std::uint64_t part : {record.size, time})
        mixed = (mixed ^ (part + 0x9E3779B97F4A7C15U + (mixed << 6) + (mixed >> 2))) * 0xFF51AFD7ED558CCDU;
    return mixed;
}

// A live file that today's volume, or a newer state, has at the same place, with the same size and time is the same.
// What was deleted since is whole here; what is there today and differs is an earlier state of it.
Result<void> VolumeScan::keep_of_state(Record&& record) {
    const bool is_live = record.state == State::live;
    const std::int64_t id = next_id_++;
    claim(record, id, is_live);
    Told& told = *point_->told;
    const std::uint64_t key = told_by(record);
    if (record.is_folder || record.is_own || !record.stream.empty() || told.well.contains(key)) return {};
    if (!is_live && (told.poorly.contains(key) || told.live_in_a_state.contains(key))) return {};
    told.well.insert(key);
    if (!is_live) {
        add_snapshot_facts(record, point_->name, point_->made);
        record.version = point_->version;
        leave_out_taken(record);
        ++report_.deleted;
        return waiting_->add(id, record);
    }
    const bool is_newest = told.paths.insert(path_hash(record)).second;
    Prospect prospect = judged(record, id);
    prospect.reasons.insert(prospect.reasons.begin(), "it lives on in the " + point_->name);
    if (const auto poor = told.poorly.find(key); poor != told.poorly.end())
        return complete(poor->second, std::move(record), std::move(prospect));
    add_snapshot_facts(record, point_->name, point_->made);
    record.version = point_->version;
    record.state = is_newest ? State::deleted : State::live;
    ++(is_newest ? report_.deleted : report_.live);
    return store(id, std::move(record), prospect);
}

// What today's record of a deleted file tells of lies where other files do now; this state has all of it.
Result<void> VolumeScan::complete(std::int64_t id, Record&& record, Prospect&& prospect) {
    DREDGER_TRY(auto candidate, catalog_.find(id));
    if (!candidate || candidate->prospect.value >= prospect.value) return {};
    candidate->layout = on_medium(row_.place, std::move(record.layout));
    candidate->record.trust = record.trust;
    add_snapshot_facts(candidate->record, point_->name, point_->made);
    candidate->prospect = std::move(prospect);
    DREDGER_CHECK(catalog_.update(*candidate));
    return save_now_and_then();
}

// What the state had free is not kept for it: where today's files took it over, nothing is left.
void VolumeScan::leave_out_taken(Record& record) const {
    if (record.layout.within_records) return;
    std::vector<LayoutExtent> left;
    for (const LayoutExtent& extent : record.layout.extents) {
        bool is_taken = false;
        if (extent.is_stored())
            for (const Extent& place : on_medium(row_.place, std::vector<Extent>{extent})) {
                const bool is_in_its_place =
                    place.is_stored() && place.offset == today_row_.place.offset + extent.offset;
                is_taken = is_taken || (is_in_its_place && current_->space().taken_bytes_in(extent) > 0);
            }
        left.push_back(is_taken ? LayoutExtent(Extent::unknown(extent.length), extent.pack) : extent);
    }
    record.layout.extents = std::move(left);
}

// With its volume, which no table tells of or which doesn't mount any more: but the file system's own files are
// nobody's loss, nor is a record without name and content.
bool VolumeScan::was_lost(const FileEntry& record) const {
    const bool is_empty = record.name_is_placeholder && record.size == 0;
    const bool is_lost = row_.place.table == TableKind::lost || !row_.facts.is_mountable;
    return is_lost && !record.is_own && !is_empty;
}

void VolumeScan::claim(const Record& record, std::int64_t id, bool holds_its_space) {
    const auto last_sign = last_sign_of_life(record);
    if (!record.layout.within_records)
        for (const Extent& extent : record.layout.extents) {
            // What an earlier file system tells of may lie in clusters of another size.
            const Extent units = record.origin == Origin::remnant ? extent : space_->whole_units(extent);
            claims_.add({units, id, record.content_key(), holds_its_space, last_sign, unwritten_in(units, extent)});
            if (!holds_its_space || !units.is_stored()) continue;
            live_bytes_ += units.length;
            live_on_free_ += units.length - std::min(units.length, space_->taken_bytes_in(units));
        }
    for (const Extent& extent : record.keeping)
        claims_.add({space_->whole_units(extent), id, record.content_key(), holds_its_space, last_sign});
}

Result<void> VolumeScan::store(std::int64_t id, Record&& record, const Prospect& prospect) {
    const std::int64_t kept = number_kept(id, record);
    if (kept != 0 && !renews_) return {};
    Candidate candidate;
    candidate.id = kept != 0 ? kept : id;
    candidate.volume = row_.id;
    candidate.layout = on_medium(row_.place, std::move(record.layout));
    candidate.record = std::move(static_cast<FileEntry&>(record));
    candidate.prospect = prospect;
    tell_format(candidate);
    DREDGER_CHECK(kept != 0 ? catalog_.update(candidate) : catalog_.add(candidate));
    return save_now_and_then();
}

// Only when all records were seen is it known what lies in a bin and who claims what.
Result<void> VolumeScan::judge_all() {
    claims_.seal();
    for (std::size_t n = 0; n < waiting_->size() && !bins_.empty(); ++n) {
        DREDGER_TRY(WaitingRecord waiting, waiting_->read(n));
        if (bins_.settle(waiting.record)) bins_.note_move(waiting.record);
    }
    for (std::size_t n = 0; n < waiting_->size() && !interrupted_; ++n) {
        if (n % kGlance == 0) report_progress("judging finds", n, waiting_->size());
        DREDGER_TRY(WaitingRecord waiting, waiting_->read(n));
        DREDGER_CHECK(judge_waiting(std::move(waiting)));
        interrupted_ = observer_.should_stop();
    }
    return {};
}

Result<void> VolumeScan::judge_waiting(WaitingRecord&& waiting) {
    if (!bins_.settle(waiting.record) && bins_.is_former_place(waiting.record)) {
        --report_.deleted;
        return {};
    }
    if (!is_wanted(waiting.record)) return {};
    const Prospect prospect = judged(waiting.record, waiting.id);
    if (waiting.record.state == State::trashed) report_.bins.add(waiting.record);
    return store(waiting.id, std::move(waiting.record), prospect);
}

Prospect VolumeScan::judged(const Record& record, std::int64_t id) {
    Prospect prospect = judge(gather(record, id, claims_, *space_, *volume_, habit_),
                              [this](std::int64_t other) { return name_of(other); });
    if (!point_ || point_->is_whole || record.layout.within_records || record.size == 0) return prospect;
    prospect.reasons.push_back(
        fmt::format("a part of what the {} keeps is damaged: some of its bytes may be those of today", point_->name));
    prospect.value = std::min(prospect.value, kMostInDamagedState);
    if (prospect.band == Band::sound) prospect.band = Band::patchy;
    return prospect;
}

std::string VolumeScan::name_of(std::int64_t id) {
    auto waiting = waiting_->find(id);
    if (!waiting) {
        const auto kept = number_kept_.find(id);
        return catalog_.name_of(kept == number_kept_.end() ? id : kept->second);
    }
    bins_.settle(waiting->record);
    return title_of(waiting->record);
}

Result<void> VolumeScan::save_now_and_then() {
    if (++unsaved_ < kBatch) return {};
    unsaved_ = 0;
    DREDGER_CHECK(catalog_.commit());
    return catalog_.begin();
}

void VolumeScan::report_progress(const char* doing, std::uint64_t done, std::uint64_t total) {
    observer_.progress({doing, done, total, "records", report_.deleted + report_.trashed});
}

}  // namespace dredger
