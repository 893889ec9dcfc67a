#include "scanning/deep_scan.h"

#include <algorithm>
#include <fmt/format.h>

#include "checking/checking.h"
#include "media/content.h"
#include "scanning/found.h"
#include "scanning/joining_stage.h"
#include "scanning/sweep_words.h"

namespace dredger {
namespace {

constexpr std::size_t kBatch = 256;                   // records that are checked together
constexpr std::chrono::milliseconds kSaveEvery{200};  // what is lost at most, in time
constexpr unsigned kTellingBits = 24;                 // of evidence at a start that make it foreign content

std::uint64_t stored_bytes(const std::vector<Extent>& pieces) {
    std::uint64_t sum = 0;
    for (const Extent& piece : pieces) sum += piece.length;
    return sum;
}

void add_reason(Prospect& prospect, Prospect&& changed) {
    if (changed.reasons.size() > prospect.reasons.size() &&
        std::find(prospect.reasons.begin(), prospect.reasons.end(), changed.reasons.back()) != prospect.reasons.end())
        changed.reasons.pop_back();
    prospect = std::move(changed);
}

}  // namespace

Result<void> DeepScan::plan(const ScannedVolume& volume, const std::vector<Extent>& ground) {
    const std::string settings = settings_of(request_);
    DREDGER_TRY(const auto before, catalog_.sweep_of(volume.id));
    // Other wishes: the search begins anew, what was checked stays checked.
    const bool begins = !before || (request_.deep && before->settings != settings);
    const bool has_begun = before && (before->position > 0 || before->done);
    if (!begins && (!request_.deep || has_begun)) return {};
    DREDGER_CHECK(catalog_.begin());
    if (before && begins) DREDGER_CHECK(catalog_.remove_finds(volume.id));
    const std::int64_t checked = before ? before->checked : 0;
    DREDGER_CHECK(catalog_.save_sweep({volume.id, settings, checked, 0, stored_bytes(ground), {}, {}, false}));
    if (request_.deep) DREDGER_CHECK(catalog_.save_ground(volume.id, ground));
    return catalog_.commit();
}

Result<DeepScan::Outcome> DeepScan::run(const ScannedVolume& volume, const FileSystem* filesystem) {
    const MediumPtr& medium = session_.medium;
    volume_ = volume;
    filesystem_ = filesystem;
    DREDGER_TRY(const auto planned, catalog_.sweep_of(volume.id));
    DREDGER_TRY(const std::vector<Extent> pieces, catalog_.ground_of(volume.id));
    sweep_ = planned.value_or(Sweep{volume.id, settings_of(request_), 0, 0, 0, {}, {}, false});
    report_.number = volume.place.number;
    report_.offset = volume.place.offset;
    report_.has_no_ground = pieces.empty();
    report_.is_whole = sweep_.total >= volume.place.length;
    report_.was_done_before = sweep_.done;
    DREDGER_TRY(const SweepState state, state_of(sweep_));
    DREDGER_TRY(traces_, traces_of(sweep_));
    DREDGER_CHECK(catalog_.begin());
    DREDGER_TRY(next_id_, catalog_.next_id());
    saved_ = std::chrono::steady_clock::now();

    if (!sweep_.done) {
        auto checked = check_records();
        if (checked && !stopped_ && request_.deep) checked = learn_places();
        if (checked && !stopped_ && request_.deep) {
            CarveOptions options;
            options.wanted = {request_.kinds, request_.formats};
            options.further = request_.further;
            options.every_offset = request_.every_offset;
            options.inside = request_.inside;
            options.lone_heads = request_.join != JoinEffort::off;
            options.medium = medium;
            options.tracers = all_tracers();
            Carver carver(std::make_shared<Content>(medium, pieces), std::move(options), std::move(taken_));
            checked = carver.sweep(state, *this);
        }
        if (checked && !stopped_ && request_.deep && request_.join != JoinEffort::off) checked = join_torn(pieces);
        if (!checked) {
            catalog_.roll_back();
            return tl::unexpected<Error>(checked.error());
        }
        sweep_.done = request_.deep && !stopped_;
        DREDGER_CHECK(catalog_.save_sweep(sweep_));
    }
    report_.searched = sweep_.position;
    DREDGER_CHECK(catalog_.commit());
    return Outcome{report_, std::move(traces_), std::move(fingerprints_), stopped_};
}

Result<void> DeepScan::join_torn(const std::vector<Extent>& ground) {
    JoiningStage stage(session_, request_, volume_, filesystem_, ground);
    DREDGER_TRY(const JoiningStage::Outcome outcome, stage.run());
    stopped_ = outcome.stopped;
    report_.finds -= std::min<std::uint64_t>(report_.finds, outcome.removed);
    for (const std::int64_t id : outcome.changed) fingerprints_.erase(id);
    return {};
}

// What records tell of is read through their layouts, however scattered it lies.
Result<void> DeepScan::check_records() {
    for (;;) {
        DREDGER_TRY(auto batch, catalog_.to_check(volume_.id, sweep_.checked, kBatch));
        if (batch.empty()) return {};
        for (Candidate& candidate : batch) {
            if (!check_content(session_.medium, candidate, [this] { return observer_.should_stop(); })) break;
            if (candidate.is_checked) DREDGER_CHECK(catalog_.update(candidate));
            sweep_.checked = candidate.id;
        }
        report_.checked += batch.size();
        report_progress("checking what records tell of", report_.checked, 0, "records");
        if (std::chrono::steady_clock::now() - saved_ > kSaveEvery) DREDGER_CHECK(save());
        if (observer_.should_stop()) {
            stopped_ = true;
            return {};
        }
    }
}

Result<void> DeepScan::take(Find&& find) {
    DREDGER_TRY(const bool merged, merge(find));
    if (merged) {
        ++report_.merged;
        return {};
    }
    return add(std::move(find));
}

// Where records say that their content lies.
Result<void> DeepScan::learn_places() {
    DREDGER_CHECK(catalog_.each_piece(volume_.id, [&](std::int64_t candidate, const Extent& piece, bool is_proven) {
        if (is_proven) taken_.add(piece);
        claims_.add({piece, candidate, 0, false, {}});
    }));
    claims_.seal();
    // What is there is not to be found, where the ground holds more than what is free.
    if (!report_.is_whole) return {};
    return catalog_.each_extent([&](std::int64_t volume, State state, Band, const Extent& piece) {
        if (volume == volume_.id && (state == State::live || state == State::trashed)) taken_.add(piece);
    });
}

// True where a record tells of the find already.
Result<bool> DeepScan::merge(const Find& find) {
    if (claims_.empty()) return false;
    DREDGER_TRY(const bool is_known, merge_with_start(find));
    if (is_known || find.measured.end == Measured::End::broken) return is_known;
    return merge_within(find);
}

// With the records whose content begins where the find does.
Result<bool> DeepScan::merge_with_start(const Find& find) {
    bool is_known = false;
    const std::uint64_t start = find.pieces.front().offset;
    DREDGER_TRY(auto there, catalog_.beginning_at(volume_.id, start));
    const bool is_sound = find.measured.end != Measured::End::broken;
    for (Candidate& candidate : there) {
        FileEntry& record = candidate.record;
        if (record.origin == Origin::signature) continue;
        // Packed bytes may look like a packed file, and are none.
        if (candidate.layout.codec == Codec::each) {
            is_known = true;
            continue;
        }
        const bool kin = candidate.format.empty() || are_kin(candidate.format, find.format->name);
        const bool only_text = is_plain_text(*find.format);
        const bool size_is_known = record.size != 0 && record.trust != LayoutTrust::none;
        const bool fits = !size_is_known || record.size >= find.size;
        if (only_text || (kin && fits)) {
            is_known = true;
            if (only_text || !is_sound || candidate.proof >= find.measured.proof) continue;
            if (!size_is_known) record.size = find.size;
            if (record.size == find.size && find.size > 0) {
                ContentEvidence evidence = evidence_of(find);
                if (size_is_known) evidence.is_followed = false;  // the record says where it ends
                lay_record(candidate, find, evidence);
                DREDGER_CHECK(catalog_.update(candidate));
            }
            continue;
        }
        if (!is_sound || find.bits < kTellingBits) continue;
        Prospect changed = candidate.prospect;
        add_foreign_content(changed, find.format->name, 0, record.size);
        add_reason(candidate.prospect, std::move(changed));
        candidate.proof = Proof::none;
        DREDGER_CHECK(catalog_.update(candidate));
    }
    return is_known;
}

// With the records within the place of whose content it begins: it is a part of such a file, or what has taken its
// place since.
Result<bool> DeepScan::merge_within(const Find& find) {
    bool is_known = false;
    const std::uint64_t start = find.pieces.front().offset;
    std::vector<std::int64_t> around;
    claims_.others_in({start, 1}, [&](const Claim& claim, const Extent&) { around.push_back(claim.candidate); });
    for (const std::int64_t id : around) {
        DREDGER_TRY(auto candidate, catalog_.find(id));
        if (!candidate || candidate->layout.extents.front().offset == start) continue;
        const bool can_hold_files = candidate->layout.codec == Codec::each || candidate->format.empty() ||
                                    candidate->kind == Kind::archive || candidate->kind == Kind::database;
        // Text proves nothing by where it begins: it is a later piece of the file whose place that is.
        const bool is_rest_of_it = is_plain_text(*find.format) && candidate->record.trust == LayoutTrust::exact;
        if ((can_hold_files || is_rest_of_it) && candidate->prospect.band == Band::sound) {
            is_known = true;
            continue;
        }
        std::uint64_t from = 0;
        for (const Extent& piece : candidate->layout.extents) {
            if (piece.is_stored() && start >= piece.offset && start < piece.end()) {
                from += start - piece.offset;
                break;
            }
            from += piece.length;
        }
        if (candidate->proof != Proof::none || find.bits < kTellingBits) continue;
        Prospect changed = candidate->prospect;
        add_foreign_content(changed, find.format->name, from, candidate->record.size);
        add_reason(candidate->prospect, std::move(changed));
        DREDGER_CHECK(catalog_.update(*candidate));
    }
    return is_known;
}

Result<void> DeepScan::add(Find&& find) {
    Candidate candidate;
    candidate.id = next_id_++;
    candidate.volume = volume_.id;
    FileEntry& record = candidate.record;
    record.identity.number = find.pieces.front().offset - std::min(volume_.place.offset, find.pieces.front().offset);
    record.state = State::lost;
    const auto fingerprint = find.fingerprint;
    tell_of_find(candidate, std::move(find));
    constexpr std::size_t kMaxFingerprints = 1 << 20;
    if (fingerprint && fingerprints_.size() < kMaxFingerprints) fingerprints_[candidate.id] = *fingerprint;
    ++report_.finds;
    ++by_kind_[word_for(candidate.kind)];
    return catalog_.add(candidate);
}

Result<bool> DeepScan::reached(const SweepState& state) {
    sweep_.position = state.position;
    report_.dropped = state.dropped;
    report_.given_up = state.given_up;
    report_progress("searching the surface", state.position, sweep_.total, "bytes");
    const bool last = state.position >= sweep_.total;
    const bool interrupted = observer_.should_stop();
    if (last || interrupted || std::chrono::steady_clock::now() - saved_ > kSaveEvery) {
        sweep_.state = text_of(state);
        if (std::exchange(has_new_traces_, false)) sweep_.traces = text_of(traces_);
        DREDGER_CHECK(save());
        DREDGER_TRY(const bool over, session_.wanted.is_over(catalog_));
        stopped_ = !last && (interrupted || over);
    }
    return !stopped_;
}

Result<void> DeepScan::save() {
    DREDGER_CHECK(catalog_.save_sweep(sweep_));
    DREDGER_CHECK(catalog_.commit());
    saved_ = std::chrono::steady_clock::now();
    return catalog_.begin();
}

void DeepScan::report_progress(const char* doing, std::uint64_t done, std::uint64_t total, const char* unit) {
    std::vector<std::string> kinds;
    for (const auto& [kind, count] : by_kind_) kinds.push_back(fmt::format("{} {}", kind, count));
    observer_.progress({doing, done, total, unit, report_.finds, fmt::format("{}", fmt::join(kinds, ", "))});
}

}  // namespace dredger
