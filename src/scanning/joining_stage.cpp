#include "scanning/joining_stage.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "base/in_parallel.h"
#include "checking/checking.h"
#include "filesystems/filesystem.h"
#include "formats/stream_memory.h"
#include "scanning/found.h"
#include "volumes/mapping.h"

namespace dredger {
namespace {

constexpr std::uint64_t kSector = 512;

}  // namespace

JoiningStage::JoiningStage(ScanSession& session, const ScanRequest& request, const ScannedVolume& volume,
                           const FileSystem* filesystem, const std::vector<Extent>& ground)
    : session_(session),
      request_(request),
      volume_(volume),
      filesystem_(filesystem),
      ground_(std::make_shared<Content>(session.medium, ground)) {
    std::uint64_t start = 0;
    for (const Extent& place : ground) {
        places_.emplace_back(place, start);
        start += place.length;
    }
    std::sort(places_.begin(), places_.end(),
              [](const auto& a, const auto& b) { return a.first.offset < b.first.offset; });
}

std::optional<std::uint64_t> JoiningStage::on_ground(std::uint64_t on_medium) const {
    auto place = std::upper_bound(places_.begin(), places_.end(), on_medium,
                                  [](std::uint64_t at, const auto& p) { return at < p.first.offset; });
    if (place == places_.begin() || on_medium >= (--place)->first.end()) return std::nullopt;
    return place->second + (on_medium - place->first.offset);
}

std::vector<JoiningStage::Seen>::iterator JoiningStage::first_from(std::uint64_t start) {
    return std::lower_bound(seen_.begin(), seen_.end(), start,
                            [](const Seen& seen, std::uint64_t at) { return seen.start() < at; });
}

Result<JoiningStage::Outcome> JoiningStage::run() {
    DREDGER_CHECK(collect());
    tell_within();
    learn_grain();
    DREDGER_CHECK(remove_parts());
    tell_own();
    if (!measure_all()) {
        outcome_.stopped = true;
        return outcome_;
    }
    learn_whether_sectors_are_filled();
    DREDGER_TRY(bool done, follow_left_layouts());
    if (done) {
        DREDGER_TRY(done, put_together());
    }
    outcome_.stopped = !done;
    if (done) DREDGER_CHECK(remove_unjoined());
    return outcome_;
}

// Before anything is guessed: some file systems leave lists of where files lay.
Result<bool> JoiningStage::follow_left_layouts() {
    if (seen_.empty() || filesystem_ == nullptr) return true;
    const auto left = filesystem_->left_layouts([&](std::uint64_t done, std::uint64_t total) {
        session_.observer.progress({"looking for lists of clusters", done, total, "bytes", 0, {}});
        return !session_.observer.should_stop();
    });
    if (left == nullptr) return !session_.observer.should_stop();
    for (Seen& seen : seen_) {
        if (session_.observer.should_stop()) return false;
        if (seen.is_firm || seen.is_gone) continue;
        const auto start = ground_->places_of(seen.start(), 1);
        const auto at = start.empty() ? std::vector<Extent>() : on_volume(volume_.place, start.front());
        if (at.empty()) continue;
        std::optional<Joined> best;
        for (const std::vector<Extent>& layout : left->from(at.front().offset))
            if (auto joined = along(seen, layout); joined && (!best || joined->measured.length > best->measured.length))
                best = std::move(joined);
        if (best) DREDGER_CHECK(take(seen, *best));
    }
    return true;
}

// The find as such a layout has it; nothing where that does not make it whole.
std::optional<Joined> JoiningStage::along(const Seen& seen, const std::vector<Extent>& on_volume) const {
    Joined joined;
    for (const Extent& extent : on_medium(volume_.place, on_volume)) {
        const auto at = extent.is_stored() ? on_ground(extent.offset) : std::nullopt;
        // Where the ground is not in one piece there, something else holds a part of it.
        if (!at || on_ground(extent.end() - 1) != *at + extent.length - 1) break;
        append(joined.pieces, {*at, extent.length});
    }
    const Content content(ground_, joined.pieces);
    Budget budget([this] { return session_.observer.should_stop(); });
    Reader reader(content, budget, 0);
    joined.measured = measure(*seen.format, reader);
    joined.is_whole = joined.measured.is_whole() ||
                      (joined.measured.end == Measured::End::open && joined.measured.length + grain_ > content.size());
    if (!joined.is_whole || (seen.measured.is_whole() && seen.measured.proof > joined.measured.proof))
        return std::nullopt;
    joined.pieces = content.places_of(0, joined.measured.length);
    return joined;
}

// False where it was stopped.
Result<bool> JoiningStage::put_together() {
    std::vector<std::size_t> open;
    for (std::size_t n = 0; n < seen_.size(); ++n)
        if (torn(seen_[n])) open.push_back(n);
    if (open.empty()) return true;
    DREDGER_TRY(const Remains firm, remains_of_proven());
    // The more torn files there are, the less is tried for each: nobody waits for hours who did not ask for it.
    constexpr std::uint64_t kForAll = 100ULL << 30, kLeast = 16 << 20;
    JoinLimits limits;
    limits.most_read = std::clamp(kForAll / open.size(), kLeast, limits.most_read);
    if (request_.join == JoinEffort::thorough) limits = JoinLimits::thorough();
    // What can prove itself may lie where nothing spoke against another one; and from then on something does.
    JoinLimits proven = limits;
    proven.effort = Effort::seams;
    proven.only_proven = true;
    DREDGER_TRY(const bool first, put_together(open, without_settled(firm), limits));
    if (!first) return false;
    DREDGER_TRY(const bool second, put_together(open, without_joined(firm), proven));
    if (!second) return false;
    const auto doubtful = contradicted();
    return put_together(doubtful, without_settled(firm), limits);
}

// Those of them that are torn still.
Result<bool> JoiningStage::put_together(const std::vector<std::size_t>& candidates, Remains remains,
                                        const JoinLimits& limits) {
    std::vector<TornFile> files;
    std::vector<std::size_t> numbers;  // of these in `seen_`
    for (const std::size_t n : candidates)
        if (auto file = torn(seen_[n])) {
            files.push_back(*file);
            numbers.push_back(n);
        }
    if (files.empty()) return true;
    Puzzle puzzle(ground_, std::move(remains), std::move(files), limits);
    const auto go_on = [&](const Puzzle::Progress& p) {
        session_.observer.progress(
            {"putting torn files together", p.done, p.all, "files", outcome_.joined + p.joined, {}});
        return !session_.observer.should_stop();
    };
    const auto take = [&](std::size_t file, const Joined& joined) { return this->take(seen_[numbers[file]], joined); };
    return puzzle.solve({go_on, take});
}

// What seemed whole, or was put together as it fits, and in which a part of a file lies that was proven since.
std::vector<std::size_t> JoiningStage::contradicted() {
    Coverage proven;
    for (const Seen& seen : seen_)
        if (seen.is_proven)
            for (const Extent& piece : seen.pieces) proven.add(piece);
    const auto proven_in = [&](const Extent& piece) { return proven.within(piece.offset, piece.length); };
    const auto is_clean = [&](const Extent& piece) { return proven_in(piece).empty(); };
    std::vector<std::size_t> numbers;
    for (std::size_t n = 0; n < seen_.size(); ++n) {
        Seen& seen = seen_[n];
        if (seen.is_firm || seen.is_proven || seen.is_gone || proven.covers(seen.start())) continue;
        if (std::all_of(seen.pieces.begin(), seen.pieces.end(), is_clean)) continue;
        const auto file = torn(seen);
        const bool seemed_whole = seen.is_whole || (file ? file->is_followed : is_settled(seen));
        if (!seemed_whole) continue;
        if (const Extent& first = seen.pieces.front(); !std::exchange(seen.is_whole, false) && !is_clean(first)) {
            seen.own = std::min(seen.own, proven_in(first).front().offset - seen.start());
            seen.is_contradicted = true;
        }
        numbers.push_back(n);
    }
    return numbers;
}

// The finds, and the records of which it is not known where all of their content lies.
Result<void> JoiningStage::collect() {
    Selection selection;
    selection.volumes = {volume_.id};
    DREDGER_CHECK(session_.catalog.each(selection, Order{}, true, [&](Candidate& candidate) {
        collect(candidate);
        return true;
    }));
    std::sort(seen_.begin(), seen_.end(), [](const Seen& a, const Seen& b) {
        return std::pair(a.start(), a.candidate.id) < std::pair(b.start(), b.candidate.id);
    });
    return {};
}

bool JoiningStage::Seen::is_held_by_parts() const {
    return is_find() && candidate.proof == Proof::chain && !keeps_others(*format) && !is_plain_text(*format);
}

void JoiningStage::collect(Candidate& candidate) {
    const FileEntry& record = candidate.record;
    const auto& extents = candidate.layout.extents;
    if (extents.empty() || !extents.front().is_stored() || candidate.layout.codec != Codec::none) return;
    const bool is_find = record.origin == Origin::signature;
    if (!is_find && (record.is_folder || record.trust == LayoutTrust::exact || record.size < kSector ||
                     candidate.proof >= Proof::structure))
        return;
    const auto start = on_ground(extents.front().offset);
    if (!start) return;
    Seen seen;
    if (is_find) {
        const Format* listed = format_named(candidate.format);
        seen.format = listed != nullptr ? measurer_of(*listed) : nullptr;
    } else if (const auto head = ground_->bytes(*start, std::min<std::uint64_t>(4096, ground_->size() - *start))) {
        seen.format = measured_format(record.name, ByteView(*head));
    }
    if (seen.format == nullptr) return;
    for (const Extent& piece : extents)
        if (const auto place = piece.is_stored() ? on_ground(piece.offset) : std::nullopt)
            append(seen.pieces, {*place, std::min(piece.length, ground_->size() - *place)});
    seen.is_firm = is_find && (candidate.prospect.band == Band::sound || candidate.proof == Proof::checksums);
    seen.candidate = std::move(candidate);
    seen_.push_back(std::move(seen));
}

// What begins clearly within a file that only its parts hold together is one of these, or another file's beginning.
void JoiningStage::tell_within() {
    std::vector<const Seen*> around;  // those that the last start lies in, and maybe some that end before it
    for (Seen& seen : seen_) {
        const std::uint64_t at = seen.start();
        while (!around.empty() && around.back()->end() <= at) around.pop_back();
        const auto innermost = std::find_if(around.rbegin(), around.rend(),
                                            [&](const Seen* one) { return one->start() != at && one->end() > at; });
        if (seen.is_find() && innermost != around.rend()) seen.around = (*innermost)->start();
        if (seen.is_held_by_parts()) around.push_back(&seen);
    }
}

// Parts begin wherever they may, files only with a grain.
Result<void> JoiningStage::remove_parts() {
    std::map<std::uint64_t, std::set<std::uint64_t>> parts;  // of a file by its start, as far as they were asked for
    const auto parts_of = [&](std::uint64_t start) -> const std::set<std::uint64_t>& {
        const auto [known, is_new] = parts.try_emplace(start);
        if (is_new) {
            const auto file =
                std::find_if(first_from(start), seen_.end(), [](const Seen& s) { return s.is_held_by_parts(); });
            known->second = starts_of_parts(*file->format, Content(ground_, file->pieces));
        }
        return known->second;
    };
    std::vector<std::int64_t> removed;
    for (Seen& seen : seen_) {
        if (!seen.around) continue;
        seen.is_gone = seen.start() % grain_ != phase_ || parts_of(*seen.around).contains(seen.start() - *seen.around);
        if (seen.is_gone) removed.push_back(seen.candidate.id);
    }
    std::erase_if(seen_, [](const Seen& seen) { return seen.is_gone; });
    outcome_.removed += removed.size();
    return session_.catalog.remove_finds(removed);
}

// Up to the next one that is not text; several may begin at one place.
void JoiningStage::tell_own() {
    std::uint64_t next = ground_->size(), behind = next;
    for (auto seen = seen_.rbegin(); seen != seen_.rend(); ++seen) {
        if (seen->start() < next) behind = next;
        seen->own = behind - seen->start();
        if (!is_plain_text(*seen->format)) next = seen->start();
    }
}

// False where it was stopped.
bool JoiningStage::measure_all() {
    const auto work = [&](std::size_t number, const std::atomic<bool>& stopped) {
        Seen& seen = seen_[number];
        if (seen.is_firm || is_plain_text(*seen.format)) return;
        Budget budget([&stopped] { return stopped.load(std::memory_order_relaxed); });
        Reader reader(*ground_, budget, seen.start());
        formats::StreamMemory memory;
        reader.remember(memory);
        seen.measured = measure(*seen.format, reader);
        // A find that is larger was measured by another one of the formats that its beginning shows.
        seen.is_head = seen.measured.end == Measured::End::nonsense && seen.is_find() &&
                       seen.candidate.record.size == kSector && seen.candidate.proof == Proof::none;
        if (seen.is_head) seen.measured = only_a_head(seen.own);
    };
    return in_parallel(seen_.size(), workers_for(0), work,
                       [&](std::size_t) { return !session_.observer.should_stop(); });
}

// Where nothing tells how large clusters are, the finds do: most begin with one.
void JoiningStage::learn_grain() {
    constexpr std::uint64_t kLargest = 4096;
    grain_ = volume_.facts.cluster_size != 0 ? volume_.facts.cluster_size : kLargest;
    if (volume_.facts.cluster_size != 0) return;
    std::size_t count = 0;
    // Beginnings of which nothing else makes sense stand anywhere.
    const auto counts = [](const Seen& seen) {
        const bool is_head =
            seen.is_find() && seen.candidate.record.size == kSector && seen.candidate.proof == Proof::none;
        return !is_plain_text(*seen.format) && !seen.around && !is_head;
    };
    for (const Seen& seen : seen_) count += counts(seen) ? 1 : 0;
    // With clusters of half the size every second one would begin so, give or take.
    const auto is_grain = [&](std::size_t starts) {
        const auto all = static_cast<double>(count), with = static_cast<double>(starts);
        return with >= 0.9 * all || (with >= 0.7 * all && with >= 0.5 * all + 2 * std::sqrt(all));
    };
    for (; grain_ > kSector; grain_ /= 2) {
        std::map<std::uint64_t, std::size_t> phases;
        for (const Seen& seen : seen_)
            if (counts(seen)) ++phases[seen.start() % grain_];
        for (const auto& [phase, starts] : phases) {
            phase_ = phase;
            if (is_grain(starts)) return;
        }
    }
    phase_ = 0;
}

// Some cameras leave in a file's last sector what was there: where most files that are sure are followed by something,
// that speaks against none.
void JoiningStage::learn_whether_sectors_are_filled() {
    constexpr std::size_t kLeast = 8;
    std::size_t all = 0, followed = 0;
    for (Seen& seen : seen_) {
        if (!seen.is_find() || (!seen.is_firm && !seen.measured.is_whole())) continue;
        seen.is_followed =
            is_followed(*ground_, seen.is_firm ? seen.pieces.back().end() : seen.start() + seen.measured.length);
        if (seen.around || (!seen.is_firm && seen.measured.proof < Proof::structure)) continue;
        ++all;
        followed += seen.is_followed ? 1 : 0;
    }
    sectors_are_filled_ = all < kLeast || followed * 2 < all;
}

// Without what proves where it lies: content of records, and finds.
Result<Remains> JoiningStage::remains_of_proven() {
    Remains remains(ground_->size(), grain_, phase_);
    std::set<std::int64_t> looked_at;
    for (const Seen& seen : seen_) looked_at.insert(seen.candidate.id);
    DREDGER_CHECK(session_.catalog.each_piece(volume_.id, [&](std::int64_t id, const Extent& piece, bool is_proven) {
        if (!is_proven || !piece.is_stored() || looked_at.contains(id)) return;
        if (const auto at = on_ground(piece.offset)) remains.hold({*at, std::min(piece.length, ground_->size() - *at)});
    }));
    for (const Seen& seen : seen_)
        if (seen.is_firm) remains.hold(seen.pieces);
    return remains;
}

Remains JoiningStage::without_joined(Remains remains) const {
    for (const Seen& seen : seen_)
        if (seen.is_proven) remains.hold(seen.pieces);
    return remains;
}

Remains JoiningStage::without_settled(Remains remains) const {
    remains = without_joined(std::move(remains));
    for (const Seen& seen : seen_)
        if (!seen.is_gone && (seen.is_whole || is_settled(seen))) remains.hold(seen.pieces);
    return remains;
}

// As what is to be put together; nothing where it is right as it is, or nobody can tell.
std::optional<TornFile> JoiningStage::torn(const Seen& seen) const {
    const Measured& m = seen.measured;
    if (seen.is_firm || seen.is_whole || seen.is_gone || is_plain_text(*seen.format) || seen.format->is_loose ||
        !m.is_file())
        return std::nullopt;
    TornFile file{seen.start(), seen.format, m};
    file.own = seen.own;
    file.is_head = seen.is_head;
    if (!seen.is_find()) file.size = seen.candidate.record.size;
    if (m.end == Measured::End::broken) return file;
    if (file.size != 0 && (m.length >= file.size || m.proof >= Proof::structure)) return std::nullopt;
    const bool goes_on =
        m.end == Measured::End::open && !seen.format->is_text && !is_padded(*ground_, {seen.start(), m.length});
    const bool is_cut = file.size != 0 || seen.candidate.prospect.check == Check::damaged;
    const bool is_entered = seen.is_find() && m.proof <= Proof::chain && file.own < m.length &&
                            (!keeps_others(*seen.format) || seen.is_contradicted);
    // Drivers fill the last sector of a file with zeros.
    file.is_followed = sectors_are_filled_ && seen.is_followed && seen.is_find() && !is_entered && m.is_whole() &&
                       m.proof == Proof::length;
    if (!goes_on && !is_cut && !is_entered && !file.is_followed) return std::nullopt;
    file.is_cut = is_cut;
    // All that speaks against it is what begins within, or follows; or that its record tells of more.
    file.is_broken = file.size != 0;
    file.measured.end = Measured::End::broken;
    file.measured.expected = m.length;
    file.measured.length = std::min({seen.candidate.record.size, m.length, is_entered ? file.own : m.length});
    file.measured.sure = kSector;
    return file;
}

// A find against which nothing speaks: what lies in it is looked for last where another one's rest may be.
bool JoiningStage::is_settled(const Seen& seen) const {
    if (seen.is_firm) return true;
    const bool tells = seen.is_find() && !is_plain_text(*seen.format) && !seen.format->is_loose;
    return tells && seen.measured.is_whole() && !torn(seen);
}

Result<void> JoiningStage::take(Seen& seen, const Joined& joined) {
    if (seen.is_gone) return {};
    Find find = find_of(*seen.format, joined.measured, joined.pieces, ground_, *ground_, {});
    seen.pieces = joined.pieces;
    seen.is_joined = true;
    const bool was_whole = std::exchange(seen.is_whole, joined.is_whole);
    seen.is_proven = joined.is_proven();
    if (seen.is_find()) {
        DREDGER_CHECK(take_find(seen.candidate, std::move(find)));
    } else if (joined.is_whole) {
        DREDGER_CHECK(take_record(seen.candidate, find));
    }
    if (!joined.is_whole) return {};
    outcome_.joined += was_whole ? 0 : 1;
    return request_.inside ? Result<void>() : absorb(seen);
}

Result<void> JoiningStage::take_find(Candidate& candidate, Find&& find) {
    tell_of_find(candidate, std::move(find));
    outcome_.changed.push_back(candidate.id);
    // An update would keep the words that its record had.
    DREDGER_CHECK(session_.catalog.remove_finds(std::vector<std::int64_t>{candidate.id}));
    return session_.catalog.add(candidate);
}

Result<void> JoiningStage::take_record(Candidate& candidate, const Find& find) {
    ContentEvidence evidence = evidence_of(find);
    evidence.is_followed = false;  // the record says where it ends
    lay_record(candidate, find, evidence);
    candidate.is_checked = true;
    return session_.catalog.update(candidate);
}

// What begins within a file that is whole now is a part of it.
Result<void> JoiningStage::absorb(const Seen& seen) {
    std::vector<std::int64_t> within;
    for (const Extent& piece : seen.pieces)
        for (auto other = first_from(piece.offset); other != seen_.end() && other->start() < piece.end(); ++other) {
            if (&*other == &seen || other->is_gone || !other->is_find()) continue;
            // What only fits takes nothing that is whole by itself.
            if (seen.candidate.proof < Proof::structure && other->measured.end != Measured::End::broken) continue;
            within.push_back(other->candidate.id);
            other->is_gone = true;
        }
    outcome_.removed += within.size();
    return session_.catalog.remove_finds(within);
}

// Lone heads whose rest was not found, and what lies within others all the same.
Result<void> JoiningStage::remove_unjoined() {
    Coverage held;
    for (const Seen& seen : seen_)
        if (seen.is_held_by_parts() && !seen.is_gone)
            for (const Extent& piece : seen.pieces) held.add(piece);
    std::vector<std::int64_t> unjoined;
    for (const Seen& seen : seen_) {
        if (!seen.is_find() || seen.is_joined || seen.is_gone) continue;
        if (seen.measured.is_lone_head() || (seen.around && held.covers(seen.start())))
            unjoined.push_back(seen.candidate.id);
    }
    outcome_.removed += unjoined.size();
    return session_.catalog.remove_finds(unjoined);
}

}  // namespace dredger
