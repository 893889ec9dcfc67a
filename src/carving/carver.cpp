#include "carving/carver.h"

#include <algorithm>
#include <chrono>
#include <condition_variable>
#include <map>
#include <mutex>
#include <set>
#include <thread>

#include "base/in_parallel.h"
#include "carving/ground_ahead.h"
#include "media/loaded.h"

namespace dredger {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kLookAhead = 8 * kSector;
constexpr unsigned kClearly = 32, kFairly = 24;  // bits of evidence at a start
// Bytes that may be read for the starts of a block that turn out to be nothing; behind that each gets little. Only a
// surface that was made to hold up its reader comes so far.
constexpr std::uint64_t kMaxInVain = std::uint64_t{1} << 30;

// Formats whose parts are files of their own: what lies in a damaged one is worth listing.
bool holds_files(const Format& format) { return format.kind == Kind::archive; }

// Whether all that shows how far it reaches is a number in its header, or that text goes on.
bool is_told_by_length(const Find& find) {
    return find.measured.end != Measured::End::broken &&
           (find.measured.proof <= Proof::length || (find.format->is_text && find.measured.end == Measured::End::open));
}

// Its parts follow one upon the other, and it tells where they begin: nothing else begins within it.
bool is_told_by_parts(const Find& find, const Format& format) {
    return find.is_held_by_parts() && format.take_apart != nullptr && format.kind == Kind::document && !format.is_text;
}

// Whether a whole file that lies there may well be a part of what is said to reach up to `end`. Within programs and
// databases files lie where sectors begin by chance only, and what follows them is not made of zeros up to the next.
bool may_hold(const Format& format, const Medium& ground, const Extent& file, std::uint64_t end) {
    if (!keeps_others(format) || file.end() > end) return false;
    return holds_files(format) || file.end() % kSector == 0 || !is_padded(ground, file);
}

// What has whole files in it, by no more than a length: it hides nothing that stands alone.
bool is_open_holder(const Find& find) { return keeps_others(*find.format) && is_told_by_length(find); }

// Nothing begins within what is proven.
bool hides_what_is_clear(const Find& find) {
    return find.measured.end != Measured::End::broken && !is_told_by_length(find);
}

// A whole file that shows by its start and by what follows that it is one of its own, wherever it lies.
bool stands_alone(const Measured& found, unsigned bits) {
    return found.is_whole() && (bits >= kClearly  ? found.proof >= Proof::chain
                                : bits >= kFairly ? found.proof >= Proof::structure
                                                  : false);
}

// How much of a find is its own beyond doubt. The last part of one without an end mark may be the start of what
// follows, and what is said to reach behind all there is may be a number that was never right.
std::uint64_t certain_bytes(const Find& find) {
    if (find.is_cut_off) return std::min(find.measured.sure, kSector);
    if (find.measured.end == Measured::End::broken) return find.measured.sure;
    if (find.measured.end == Measured::End::open && !find.is_padded) return find.size / kSector * kSector;
    return find.size;
}

// Files begin with a sector, and drivers fill the last one with zeros: what stands between an end and these zeros is
// the file's too, as lines behind the last element of a document are. `end` where the zeros begin right there, or
// never.
std::uint64_t end_of_tail(const Medium& ground, std::uint64_t end, bool is_text) {
    constexpr std::uint64_t kMaxTail = 1 << 20;
    const std::uint64_t filled = sector_end(end);
    Budget budget;
    Reader bytes(ground, budget);
    if (end == filled || !bytes.holds(0, filled)) return end;
    std::uint64_t last = filled;
    while (last > end && bytes.u8(last - 1) == 0) --last;
    if (last < filled) return bytes.ok() ? last : end;
    if (!is_text) return end;
    bool are_spaces = true;
    for (std::uint64_t at = end; at < filled; ++at) are_spaces = are_spaces && bytes.u8(at) <= ' ';
    if (are_spaces) return bytes.ok() ? filled : end;
    const std::uint64_t limit = std::min(ground.size(), end + kMaxTail);
    while (last < limit && bytes.u8(last) >= 0x09 && bytes.u8(last) != 0x7F) ++last;
    const std::uint64_t rest = sector_end(last);
    return bytes.ok() && last < limit && last < rest && bytes.holds(0, rest) && bytes.is_zeros(last, rest) ? last : end;
}

// Text that is closed as it was opened, and nothing behind it: no part of a longer one.
bool is_complete(const Medium& ground, const Measured& found, std::uint64_t start) {
    return found.is_whole() && found.proof >= Proof::chain && is_padded(ground, {start, found.length});
}

}  // namespace

// What was found in a block.
struct Carver::Searched {
    GroundBlock block;
    std::vector<Find> finds;
    std::vector<std::uint64_t> starts;  // of the finds, on the ground
    std::vector<VolumeTrace> traces;
    std::uint64_t dropped = 0;
    std::uint64_t given_up = 0;
    std::uint64_t in_vain = 0;  // bytes read for starts that were nothing
};

Carver::Carver(std::shared_ptr<const Content> ground, CarveOptions options, Coverage known)
    : ground_(std::move(ground)),
      options_(std::move(options)),
      nominator_(options_.wanted, options_.further),
      known_(std::move(known)) {}
Carver::~Carver() = default;

std::optional<Find> Carver::examine(const MediumPtr& ground, std::uint64_t start, const std::vector<Bid>& bids,
                                    Searched& in) const {
    std::optional<Bid> head;
    for (const Bid& bid : bids) {
        Budget budget = budget_for(in);
        Reader reader(*ground, budget, start);
        Find find;
        find.measured = measure(*bid.format, reader);
        if (!find.measured.is_file()) {
            in.in_vain += budget.bytes_spent();
            in.given_up += find.measured.end == Measured::End::gave_up ? 1 : 0;
            if (!options_.lone_heads || bid.bits < kClearly || find.measured.end == Measured::End::gave_up) continue;
            if (!head) head = bid;
            continue;
        }
        if (bid.goes_on && !is_complete(*ground, find.measured, start)) {
            in.in_vain += budget.bytes_spent();
            continue;
        }
        if ((find.measured.is_lone_head() && !options_.lone_heads) || find.measured.length == 0) continue;
        find.format = finer_format(*bid.format, find.measured);
        if (!is_wanted(*find.format)) return std::nullopt;
        if (is_told_by_length(find) || is_told_by_parts(find, *bid.format))
            cut_at_another(ground, start, *bid.format, find, in);
        Measured& found = find.measured;
        if (found.has_its_end && found.expected <= ground->size() - start) found.length = found.expected;
        if (found.is_whole() && start % kSector == 0)
            found.length = end_of_tail(*ground, start + found.length, bid.format->is_text) - start;
        find = find_of(*bid.format, found, {{start, found.length}}, ground, *ground_, stop());
        find.bits = bid.bits;
        return find;
    }
    if (!head || !is_wanted(*head->format) || ground->size() - start < kSector) return std::nullopt;
    Find find = find_of(*head->format, only_a_head(kSector), {{start, kSector}}, ground, *ground_, stop());
    find.bits = head->bits;
    return find;
}

// A number in a header is no proof: where a better proven file begins before it comes true, it was none of this file.
void Carver::cut_at_another(const MediumPtr& ground, std::uint64_t start, const Format& format, Find& find,
                            Searched& in) const {
    constexpr std::uint64_t kAtOnce = 64 << 10;
    const std::uint64_t end = start + find.measured.length;
    const std::size_t reach = nominator_.reach();
    std::optional<std::set<std::uint64_t>> parts;
    std::vector<std::byte> bytes(kAtOnce + reach);
    std::vector<Bid> bids;
    for (std::uint64_t from = start + kSector; from < end && !stopped_; from += kAtOnce) {
        const std::uint64_t have = std::min<std::uint64_t>(bytes.size(), ground->size() - from);
        const auto there = std::span(bytes).first(static_cast<std::size_t>(have));
        if (!ground->read(from, there)) continue;
        const std::uint64_t to = std::min({kAtOnce, end - from, have});
        for (std::uint64_t at = 0; at < to; at += kSector) {
            const ByteView head(there.subspan(static_cast<std::size_t>(at)));
            nominator_.nominate(ByteView(head.bytes().first(std::min(head.size(), reach))), {}, bids);
            for (const std::uint64_t length : proven_lengths(ground, from + at, bids, in)) {
                if (may_hold(*find.format, *ground, {from + at, length}, end)) continue;
                const std::uint64_t within = from + at - start;
                if (!parts) parts = starts_of_parts(format, Content(ground, {{start, find.measured.length}}));
                if (parts->contains(within)) continue;
                find.measured = find.format->is_text ? open_ended(within, find.measured.proof, find.measured.format)
                                                     : broken_between(kSector, within, "another file begins there",
                                                                      find.measured.length, find.measured.format);
                return;
            }
        }
    }
}

// How long the files are that begin at `start`, each as one of those that show clearly what they are.
std::vector<std::uint64_t> Carver::proven_lengths(const MediumPtr& ground, std::uint64_t start,
                                                  const std::vector<Bid>& bids, Searched& in) const {
    std::vector<std::uint64_t> lengths;
    for (const Bid& bid : bids) {
        if (bid.bits < kFairly) break;
        Budget budget = budget_for(in);
        Reader reader(*ground, budget, start);
        const Measured found = measure(*bid.format, reader);
        in.in_vain += budget.bytes_spent();
        if (stands_alone(found, bid.bits)) lengths.push_back(found.length);
    }
    return lengths;
}

Budget::Stop Carver::stop() const {
    return [this] { return stopped_.load(std::memory_order_relaxed); };
}

Budget Carver::budget_for(const Searched& in) const {
    return Budget(in.in_vain < kMaxInVain ? Budget::Limits() : Budget::kScant, stop());
}

bool Carver::is_wanted(const Format& format) const {
    const auto& further = options_.further;
    return options_.wanted.takes(format) || std::find(further.begin(), further.end(), &format) != further.end();
}

bool Carver::keeps_its_bytes(const Find& find) const {
    if (options_.inside) return false;
    if (is_open_holder(find)) return false;
    return find.measured.end != Measured::End::broken || !holds_files(*find.format);
}

// Whether what begins clearly within it is listed all the same. Its parts follow one upon the other, which they do as
// well where what is in them is foreign: whose it is shows when torn files are put together.
bool Carver::is_open_to_heads(const Find& find) const {
    return options_.lone_heads && !options_.inside && find.is_held_by_parts() && !keeps_others(*find.format);
}

void Carver::search(const GroundAhead& ground, std::uint64_t from, std::uint64_t to, Searched& into) const {
    const GroundBlock& block = into.block;
    // All that reads it is done before the ground is gone.
    const MediumPtr whole(MediumPtr(), &ground);
    const MediumPtr near = block.is_sound ? std::make_shared<Loaded>(whole, block.bytes_at, block.bytes()) : whole;
    std::vector<Bid> bids;
    const std::uint64_t step = options_.every_offset ? 1 : kSector;
    for (std::uint64_t at = from; at < to;) {
        const ByteView head = block.from(at);
        if (at + kLookAhead < to) nominator_.expect(block.from(at + kLookAhead));
        nominator_.nominate(ByteView(head.bytes().first(std::min(head.size(), nominator_.reach()))), block.before(at),
                            bids);
        std::uint64_t next = at + step;
        if (!bids.empty()) {
            if (auto find = examine(near, at, bids, into)) {
                // Within a file in one piece nothing begins.
                if (keeps_its_bytes(*find) && hides_what_is_clear(*find) && !is_open_to_heads(*find))
                    next =
                        std::max(next, options_.every_offset ? at + find->size : at + sector_end(certain_bytes(*find)));
                into.starts.push_back(at);
                into.finds.push_back(std::move(*find));
            } else {
                ++into.dropped;
            }
        }
        at = next;
    }
}

void Carver::look_for_volumes(Searched& in) const {
    if (options_.tracers.empty()) return;
    const GroundBlock& block = in.block;
    auto rest = block.from(block.start).bytes();
    for (const Extent& place : ground_->places_of(block.start, block.length)) {
        const auto there = rest.first(static_cast<std::size_t>(place.length));
        if (place.is_stored()) look_for_traces(*options_.medium, options_.tracers, place.offset, there, in.traces);
        rest = rest.subspan(there.size());
    }
}

// What a find lies within, or null. What begins clearly is not hidden by a broken file around it, or by one of which
// only a number tells how far it reaches: whose it is shows when torn files are put together.
const Coverage* Carver::covering(const Find& find, std::uint64_t start) const {
    const auto place = ground_->places_of(start, 1);
    if (place.empty()) return nullptr;
    if (known_.covers(place.front().offset)) return &known_;
    if (taken_.covers(place.front().offset)) return &taken_;
    const bool is_clear = find.bits >= kFairly || stands_alone(find.measured, find.bits);
    return !is_clear && doubtful_.covers(place.front().offset) ? &doubtful_ : nullptr;
}

// In the order of their places: what lies within an earlier find is no file of its own.
Result<void> Carver::settle(const GroundAhead& ground, Searched& done, FindSink& sink) {
    dropped_ += done.dropped;
    given_up_ += done.given_up;
    for (VolumeTrace& trace : done.traces) sink.take(std::move(trace));
    for (std::size_t i = 0; i < done.finds.size(); ++i) {
        Find& find = done.finds[i];
        const std::uint64_t start = done.starts[i];
        if (const Coverage* around = covering(find, start)) {
            // It hid what it reaches over and is not taken.
            const std::uint64_t place = ground_->places_of(start, 1).front().offset;
            const std::uint64_t skipped = std::min(start + certain_bytes(find), done.block.start + done.block.length);
            std::uint64_t resume = start + (around->end_at(place) - place);
            resume = sector_end(resume);
            if (keeps_its_bytes(find) && hides_what_is_clear(find) && resume < skipped) {
                Searched hidden;
                hidden.block = done.block;
                search(ground, resume, skipped, hidden);
                const auto behind = static_cast<std::ptrdiff_t>(i) + 1;
                done.finds.insert(done.finds.begin() + behind, std::make_move_iterator(hidden.finds.begin()),
                                  std::make_move_iterator(hidden.finds.end()));
                done.starts.insert(done.starts.begin() + behind, hidden.starts.begin(), hidden.starts.end());
                dropped_ += hidden.dropped;
                given_up_ += hidden.given_up;
            }
            continue;
        }
        if (!options_.inside && is_told_by_length(find)) {
            for (const Extent& piece : find.pieces) doubtful_.add(piece);
        } else if (keeps_its_bytes(find)) {
            std::uint64_t left = certain_bytes(find);
            for (const Extent& piece : find.pieces) {
                const bool is_open = find.measured.end == Measured::End::broken || is_open_to_heads(find);
                (is_open ? doubtful_ : taken_).add({piece.offset, std::min(left, piece.length)});
                left -= std::min(left, piece.length);
            }
        }
        DREDGER_CHECK(sink.take(std::move(find)));
    }
    return {};
}

// Blocks that workers searched, on their way to whoever settles them in order.
class Carver::Workers {
  public:
    Workers(const Carver& carver, GroundAhead& ground, unsigned count) : carver_(carver), ground_(ground) {
        for (unsigned i = 0; i < count; ++i)
            threads_.emplace_back([this, &carver] {
                while (auto block = ground_.next()) {
                    Searched done;
                    done.block = std::move(*block);
                    if (!done.block.failure) {
                        carver.look_for_volumes(done);
                        carver.search(ground_, done.block.start, done.block.start + done.block.length, done);
                    }
                    const std::lock_guard lock(guard_);
                    const std::uint64_t start = done.block.start;
                    searched_.emplace(start, std::move(done));
                    changed_.notify_all();
                }
            });
    }
    ~Workers() {
        carver_.stopped_ = true;
        ground_.stop();
        for (std::thread& thread : threads_) thread.join();
    }
    Workers(const Workers&) = delete;
    Workers& operator=(const Workers&) = delete;

    // The block that begins at `start`, when it is searched; none where `should_stop` says so first.
    template <class ShouldStop>
    std::optional<Searched> take(std::uint64_t start, const ShouldStop& should_stop) {
        constexpr std::chrono::milliseconds kPatience{50};
        std::unique_lock lock(guard_);
        while (!changed_.wait_for(lock, kPatience, [&] { return searched_.contains(start); }))
            if (should_stop()) return std::nullopt;
        return std::move(searched_.extract(start).mapped());
    }

  private:
    const Carver& carver_;
    GroundAhead& ground_;
    std::mutex guard_;
    std::condition_variable changed_;
    std::map<std::uint64_t, Searched> searched_;  // by start
    std::vector<std::thread> threads_;            // last: they use all the others
};

SweepState Carver::state_at(std::uint64_t position) const {
    return {position, taken_.extents(), doubtful_.extents(), dropped_, given_up_};
}

Result<void> Carver::sweep(const SweepState& state, FindSink& sink) {
    for (const Extent& extent : state.taken) taken_.add(extent);
    for (const Extent& extent : state.doubtful) doubtful_.add(extent);
    dropped_ = state.dropped;
    given_up_ = state.given_up;
    stopped_ = false;
    const auto places = ground_->places_of(0, ground_->size());
    is_in_order_ = std::is_sorted(places.begin(), places.end(),
                                  [](const Extent& a, const Extent& b) { return a.offset < b.offset; });
    GroundAhead ground(ground_, state.position);
    Workers workers(*this, ground, workers_for(options_.workers));
    for (std::uint64_t at = state.position; at < ground.size();) {
        auto searched = workers.take(at, [&] { return sink.should_stop(); });
        if (!searched) {
            DREDGER_CHECK(sink.reached(state_at(at)));
            return {};
        }
        if (searched->block.failure) return tl::unexpected<Error>(*searched->block.failure);
        DREDGER_CHECK(settle(ground, *searched, sink));
        ground.let_go_first();
        at = searched->block.next;
        // What lies before the place that comes next is not met again, unless the ground leads back there.
        if (const auto place = ground_->places_of(at, 1); is_in_order_ && !place.empty() && place.front().is_stored())
            for (Coverage* coverage : {&taken_, &doubtful_}) coverage->forget_before(place.front().offset);
        DREDGER_TRY(const bool go_on, sink.reached(state_at(at)));
        if (!go_on) return {};
    }
    return {};
}

}  // namespace dredger
