#include "carving/joining.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <numbers>
#include <queue>
#include <span>
#include <utility>

#include "carving/find.h"
#include "carving/sized_rest.h"
#include "formats/stream_memory.h"
#include "media/content.h"

namespace dredger {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kLeastTail = 4 << 20;    // bytes
constexpr std::uint64_t kCostOfTry = 16 << 10;   // bytes, beside what is read
constexpr double kMostProof = 12;                // of a file going on: bits
constexpr std::uint64_t kMaxFurther = 64 << 10;  // bytes behind the end that a file tells of
constexpr std::uint64_t kUnsure = 16;            // grains that may be foreign though they make sense
constexpr std::size_t kMaxRuns = 512;            // of what is left, that one try may go through

// What it costs to follow a byte: of a film only the beginnings of its frames are looked at, some packed streams are
// unpacked slowly.
double cost_of_byte(const Format& format) {
    if (format.kind == Kind::video) return 1.0 / 128;
    return format.name == "bz2" ? 10 : format.name == "xz" ? 4 : 1;
}

// How soon the search believes that it is on the right way: files in many pieces are found by one that does so at once,
// those of which foreign data makes sense for long by one that goes back to earlier turns.
struct Temper {
    double cost_of_turn;           // bits
    std::uint64_t first_tries;     // that count before any is made, and
    std::uint64_t first_survived;  // the sectors for which these made sense
};
constexpr Temper kTempers[] = {{0, 1, 8}, {4, 8, 128}};

std::uint64_t length_of(const std::vector<Extent>& pieces) {
    std::uint64_t length = 0;
    for (const Extent& piece : pieces) length += piece.length;
    return length;
}

// Bytes for which two lists of pieces are the same.
std::uint64_t common_start(const std::vector<Extent>& a, const std::vector<Extent>& b) {
    std::uint64_t same = 0;
    for (std::size_t i = 0; i < a.size() && i < b.size() && a[i].offset == b[i].offset; ++i) {
        same += std::min(a[i].length, b[i].length);
        if (a[i].length != b[i].length) break;
    }
    return same;
}

// How many of them the first `length` bytes lie in.
std::size_t count_up_to(const std::vector<Extent>& pieces, std::uint64_t length) {
    std::size_t count = 0;
    for (; count < pieces.size() && length > 0; ++count) length -= std::min(length, pieces[count].length);
    return count;
}

void cut(std::vector<Extent>& pieces, std::uint64_t length) {
    for (std::size_t i = 0; i < pieces.size(); ++i) {
        if (pieces[i].length >= length) {
            pieces[i].length = length;
            pieces.resize(length == 0 ? i : i + 1);
            return;
        }
        length -= pieces[i].length;
    }
}

// Whether the content shows by itself, up to its end, that it is right.
bool is_proven(const Measured& found) { return found.is_whole() && found.proof >= Proof::structure; }

// One step after another: what is sure so far is believed, what comes behind it is looked for.
class Search {
  public:
    Search(const Medium& ground, const Remains& remains, const TornFile& file, const JoinLimits& limits,
           const Endings* endings = nullptr)
        : ground_(std::shared_ptr<void>(), &ground),
          remains_(remains),
          file_(file),
          limits_(limits),
          endings_(endings) {}

    // Its last part is known to begin at `at` of the content and to lie in `pieces`.
    void anchor(std::uint64_t at, std::vector<Extent>&& pieces) {
        tail_at_ = at;
        tail_ = std::move(pieces);
    }

    std::optional<Joined> run() {
        own_ = own_part(file_, remains_.grain(), limits_.effort);
        if (endings_ != nullptr && tail_at_ == 0 && is_only_sized(file_, remains_.grain())) {
            if (auto joined = with_sized_rest()) return ended(std::move(*joined));
            if (file_.is_followed || file_.measured.is_contradicted()) return std::nullopt;
        }
        Joined in_one{file_.measured, {{file_.start, ground_->size() - file_.start}}};
        if (limits_.effort >= Effort::near && file_.is_broken && tail_at_ == 0)
            if (auto told = by_told_gaps(in_one)) return ended(std::move(*told));
        Joined best = in_one;
        const std::uint64_t own = own_;
        // What others hold is left out.
        const std::uint64_t behind_own = std::max(file_.start + own, remains_.held_until(file_.start + own));
        Joined without_others = continued({{file_.start, own}}, behind_own);
        if (is_accepted(without_others)) return ended(std::move(without_others));
        const Joined skipping = without_others;
        if (tail_at_ != 0) {
            if (!without_others.measured.is_file()) return std::nullopt;
            best = std::move(without_others);
        } else if (without_others.measured.is_file() && without_others.measured.sure >= best.measured.sure &&
                   without_others.measured.length < length_of(without_others.pieces))
            best = std::move(without_others);
        const Joined from = best;
        const std::size_t tempers = limits_.effort == Effort::once ? 0 : limits_.effort == Effort::seams ? 1 : 2;
        for (const Temper& temper : std::span(kTempers).first(tempers)) {
            temper_ = temper;
            survived_ = tried_ = read_ = 0;
            if (auto whole = likeliest_first(from, best)) return ended(std::move(*whole));
        }
        // All that spoke against it is left out, and as much is there as it says.
        if (limits_.effort >= Effort::near && !limits_.only_proven && !file_.is_broken && file_.is_cut &&
            file_.size == 0 && skipping.measured.is_whole()) {
            auto joined = ended(Joined(skipping));
            if (joined) joined->is_whole = true;
            return joined;
        }
        // What made sense as it was is no better elsewhere.
        if (!is_accepted(best) &&
            (!file_.is_broken || best.measured.sure < in_one.measured.sure + remains_.grain() + kSector))
            return std::nullopt;
        return ended(std::move(best));
    }

    // Its pieces, as far as they can be moved, meeting where others end and begin.
    Joined aligned(Joined joined) {
        own_ = own_part(file_, remains_.grain(), limits_.effort);
        const std::uint64_t length = length_of(joined.pieces);
        align(joined);
        cut(joined.pieces, length);
        return joined;
    }

  private:
    bool is_stopped() const { return limits_.stop && limits_.stop(); }
    bool may_go_on() const { return read_ < limit_ && !is_stopped(); }

    // In two pieces, as its length, its bytes and the endings around tell.
    std::optional<Joined> with_sized_rest() {
        const std::uint64_t length = file_.measured.expected;
        const SizedFile sized{file_.start, file_.own, length};
        if (file_.measured.is_contradicted()) {
            // The only way that fits; wrong ones seldom do.
            std::optional<Joined> fitting;
            std::size_t count = 0;
            each_rest_of_sized(*ground_, remains_, sized, *endings_, [&](const Extent& rest) {
                Joined tried = measured_as({{file_.start, length - rest.length}, rest});
                if (tried.measured.is_whole() && tried.measured.length == length) {
                    ++count;
                    fitting = std::move(tried);
                }
                return count < 2 && may_go_on();
            });
            return count == 1 ? fitting : std::nullopt;
        }
        const auto rest = rest_of_sized(*ground_, remains_, sized, *endings_, limit_, [this] { return is_stopped(); });
        if (!rest) return std::nullopt;
        Joined joined = measured_as({{file_.start, length - rest->length}, *rest});
        joined.fits_exactly = joined.measured.is_whole() && joined.measured.length == length;
        return joined.fits_exactly ? std::optional(std::move(joined)) : std::nullopt;
    }

    std::optional<Joined> ended(Joined&& joined) {
        joined.is_whole = is_accepted(joined);
        if (joined.is_whole && joined.measured.proof < Proof::checksums) align(joined);
        cut(joined.pieces, std::max(joined.measured.length, joined.is_whole ? file_.size : 0));
        if (joined.pieces.size() < 2) return std::nullopt;
        return std::move(joined);
    }

    // Where nothing shows at which of several grains two pieces meet, it is likelier where another file begins behind
    // the first or ends before the second.
    void align(Joined& joined) {
        for (std::size_t n = 0; n + 1 < joined.pieces.size(); ++n) {
            const Extent first = joined.pieces[n], second = joined.pieces[n + 1];
            if (!first.is_stored() || !second.is_stored()) continue;
            // It can't go on into what another one holds.
            const std::uint64_t over = first.end() - held_from(first.end());
            if (over > 0 && over < first.length && over <= second.offset && try_moved(joined, n, 0, over)) continue;
            // Nor come out of it.
            const std::uint64_t under = remains_.held_until(second.offset) - second.offset;
            if (under > 0 && under < second.length && try_moved(joined, n, under, 0)) continue;
            const std::uint64_t on = free_until(first.end()) - first.end();
            const std::uint64_t back = second.offset - free_from(second.offset);
            // It ends or begins so already.
            if (on == 0 || back == 0) continue;
            if (on < second.length && try_moved(joined, n, on, 0)) continue;
            if (back < first.length) (void)try_moved(joined, n, 0, back);
        }
    }

    // Where others hold something behind `at`; the file's own beginning is no other's.
    std::uint64_t free_until(std::uint64_t at) const {
        if (at >= file_.start && at < file_.start + own_) at = file_.start + own_;
        const Extent* run = remains_.run_around(at);
        return run != nullptr ? run->end() : at;
    }

    // Where what another one holds begins, as far as that reaches up to `end`.
    std::uint64_t held_from(std::uint64_t end) const {
        if (!remains_.is_held(end - 1) || end <= file_.start + own_) return end;
        const std::size_t run = remains_.run_at(end);
        const std::uint64_t start = run == 0 ? 0 : remains_.runs()[run - 1].end();
        return start <= file_.start && end > file_.start ? file_.start + own_ : start;
    }

    // Where the run begins that `at` lies in.
    std::uint64_t free_from(std::uint64_t at) const {
        const Extent* run = remains_.run_around(at);
        return run != nullptr ? run->offset : at;
    }

    // With the place where two pieces meet further on or back in the content.
    bool try_moved(Joined& joined, std::size_t n, std::uint64_t on, std::uint64_t back) {
        std::vector<Extent> pieces = joined.pieces;
        pieces[n].length += on;
        pieces[n].length -= back;
        pieces[n + 1].offset += on;
        pieces[n + 1].offset -= back;
        pieces[n + 1].length -= on;
        pieces[n + 1].length += back;
        Joined moved = measured_as(std::move(pieces));
        if (!is_accepted(moved) || moved.measured.length != joined.measured.length) return false;
        moved.is_whole = true;
        joined = std::move(moved);
        return true;
    }

    // What may be taken for the file: proven, or told by a length that ends just where something ends.
    bool is_accepted(const Joined& joined) const {
        if (file_.size != 0 && joined.measured.length > file_.size) return false;
        if (is_proven(joined.measured)) return true;
        if (limits_.only_proven) return false;
        // What only fits, or leads to some end, is soon found for a beginning alone.
        if (file_.is_head && (!joined.fits_exactly || count_up_to(joined.pieces, joined.measured.length) > 2))
            return false;
        if (file_.size != 0 && file_.size - joined.measured.length >= kSector) return false;
        // Its parts lead to its end now, as they did not before.
        if (joined.measured.is_whole() && joined.measured.proof == Proof::chain && file_.is_broken) return true;
        const bool ends = joined.measured.is_whole() || (joined.measured.end == Measured::End::open && file_.is_broken);
        return ends && joined.fits_exactly;
    }

    // `pieces`, and behind them what nobody holds from `at` of the ground on.
    Joined continued(std::vector<Extent> pieces, std::uint64_t at) {
        const std::size_t own = pieces.size();
        std::uint64_t from = at;
        // Somebody's, and the file's all the same: what it holds lies within this one.
        if (const std::uint64_t held = remains_.held_until(at); held > at) {
            append(pieces, {at, held - at});
            from = held;
        }
        const auto& runs = remains_.runs();
        const std::uint64_t before = length_of(pieces);
        std::uint64_t left = std::max({kLeastTail, 4 * before, file_.measured.expected}) - before;
        if (tail_at_ != 0) left = tail_at_ - std::min(tail_at_, before);
        for (std::size_t n = remains_.run_at(from), count = 0; n < runs.size() && count < kMaxRuns && left > 0;
             ++n, ++count) {
            const std::uint64_t start = std::max(from, runs[n].offset);
            std::uint64_t end = std::min(runs[n].end(), start + left);
            // Not what the file itself has further in front.
            bool is_own = false;
            for (std::size_t i = 0; i < own; ++i) {
                if (!pieces[i].is_stored()) continue;
                if (pieces[i].offset <= start && pieces[i].end() > start) is_own = true;
                if (pieces[i].offset > start) end = std::min(end, pieces[i].offset);
            }
            if (is_own || end <= start) continue;
            append(pieces, {start, end - start});
            left -= end - start;
        }
        if (tail_at_ != 0) {
            cut(pieces, tail_at_);
            if (const std::uint64_t have = length_of(pieces); have < tail_at_)
                pieces.push_back(Extent::zeros(tail_at_ - have));
            for (const Extent& piece : tail_) append(pieces, piece);
        }
        return measured_as(std::move(pieces));
    }

    Joined measured_as(std::vector<Extent>&& pieces) {
        Joined joined;
        joined.pieces = std::move(pieces);
        const Content content(ground_, joined.pieces);
        Budget budget(limits_.stop);
        Reader reader(content, budget);
        memory_.keep(common_start(joined.pieces, remembered_));
        remembered_ = joined.pieces;
        reader.remember(memory_);
        joined.measured = measure(*file_.format, reader);
        read_ += static_cast<std::uint64_t>(static_cast<double>(budget.bytes_spent()) * cost_of_byte_) + kCostOfTry;
        if (joined.measured.end == Measured::End::whole || joined.measured.end == Measured::End::open)
            joined.fits_exactly = fits_exactly(content, joined);
        return joined;
    }

    bool fits_exactly(const Content& content, const Joined& joined) {
        const std::uint64_t length = joined.measured.length;
        if (length == 0 || length > content.size()) return false;
        const auto last = content.places_of(length - 1, 1);
        if (last.empty()) return false;
        const std::uint64_t end = last.front().offset + 1;
        // A last grain of zeros fits everywhere.
        Budget for_last(limits_.stop);
        if (Reader last_grain(content, for_last);
            last_grain.is_zeros((length - 1) / remains_.grain() * remains_.grain(), length))
            return false;
        const Extent* run = remains_.run_around(end - 1);
        if (run == nullptr) return false;
        Budget budget(limits_.stop);
        Reader bytes(*ground_, budget, end);
        if (!bytes.is_zeros(0, std::min(sector_end(end), run->end()) - end)) return false;
        return run->end() - end < remains_.grain();
    }

    // What the format's own tables tell is tried one gap after the other, each with half of what may still be read.
    std::optional<Joined> by_told_gaps(const Joined& from) {
        if (file_.format->gaps == nullptr) return std::nullopt;
        Budget budget(limits_.stop);
        Reader reader(*ground_, budget, file_.start);
        std::vector<std::uint64_t> told;
        for (const std::uint64_t gap : file_.format->gaps(reader, from.measured))
            if (gap % remains_.grain() == 0 && std::find(told.begin(), told.end(), gap) == told.end())
                told.push_back(gap);
        const std::uint64_t grain = remains_.grain();
        const std::uint64_t last = from.measured.length / grain * grain;
        const std::uint64_t reach = limits_.most_told_split * grain;
        const std::uint64_t sure = from.measured.sure / grain * grain;
        const std::uint64_t first = std::max(sure - std::min(sure, kUnsure * grain), last - std::min(last, reach));
        std::optional<Joined> best;
        for (std::size_t i = 0; i < told.size() && !best; ++i) {
            const std::uint64_t most = read_ + (limit_ - std::min(limit_, read_)) / 2;
            for (std::uint64_t split = last; split > 0 && read_ < most && !is_stopped(); split -= grain) {
                auto tried = split_by_gap(split, told[i], from.measured.expected);
                if (tried && is_proven(tried->measured)) return tried;
                if (tried && tried->measured.is_whole() && !best) best = std::move(tried);
                if (split <= first) break;
            }
        }
        return best;
    }

    // Two pieces with so many foreign bytes between them; nothing where the second would lie behind the ground.
    std::optional<Joined> split_by_gap(std::uint64_t split, std::uint64_t gap, std::uint64_t expected) {
        const std::uint64_t behind = file_.start + split + gap;
        if (behind >= ground_->size()) return std::nullopt;
        const std::uint64_t wanted = expected > split ? expected - split + kMaxFurther : ground_->size();
        return measured_as({{file_.start, split}, {behind, std::min(wanted, ground_->size() - behind)}});
    }

    // Where the content may be split: where pieces meet already, then from the trouble backwards, further than what
    // seemed sure: packed data makes sense for a while whatever it is.
    std::vector<std::uint64_t> splits_of(const Joined& from, bool only_seams) const {
        const std::uint64_t grain = remains_.grain();
        const std::uint64_t last = from.measured.length / grain * grain;
        const std::uint64_t sure = std::min(last, from.measured.sure / grain * grain);
        const std::uint64_t least = last - std::min(last, limits_.most_split * grain);
        const std::uint64_t first =
            std::max({std::min(sure, least + kUnsure * grain) - std::min(sure, kUnsure * grain), grain, least});
        std::vector<std::uint64_t> splits;
        std::uint64_t at = 0;
        for (const Extent& piece : from.pieces) {
            at += piece.length;
            if (at + kUnsure * grain >= from.measured.sure && at <= from.measured.length && at % grain == 0)
                splits.insert(splits.begin(), at);
        }
        if (only_seams) {
            if (last >= first && splits.empty()) splits.push_back(last);
            return splits;
        }
        // Where frames make sense beyond the trouble as well as before it: programs write in amounts that are powers of
        // two, so what is a multiple of a larger one is likelier.
        const unsigned most_aligned = file_.format->kind == Kind::video ? 4 : 0;
        std::vector<std::pair<double, std::uint64_t>> others;
        const auto add = [&](std::uint64_t split, std::uint64_t steps) {
            const auto aligned = std::min(most_aligned, static_cast<unsigned>(std::countr_zero(split / grain)));
            if (std::find(splits.begin(), splits.end(), split) == splits.end())
                others.emplace_back(static_cast<double>(steps) / static_cast<double>(1U << aligned), split);
        };
        for (std::uint64_t split = last, steps = 1; split >= first; split -= grain, ++steps) add(split, steps);
        // And around where it was sure, if that lies far before.
        for (std::uint64_t steps = 0; sure + grain < first && steps <= kUnsure; ++steps) {
            if (sure >= (steps + 1) * grain) add(sure - steps * grain, steps + 1);
            if (steps > 0 && sure + steps * grain < first) add(sure + steps * grain, steps + 1);
        }
        std::stable_sort(others.begin(), others.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
        for (const auto& [rank, split] : others) splits.push_back(split);
        return splits;
    }

    // Where the content may go on behind `at`: the starts of runs that nobody holds, the nearest first, two behind for
    // one in front; and by turns with these every grain that nobody holds, in order.
    std::vector<std::uint64_t> places_around(std::uint64_t at, std::size_t most, bool only_edges, bool is_seam) const {
        const auto& runs = remains_.runs();
        const std::size_t here = remains_.run_at(at);
        std::vector<std::uint64_t> places;
        // It goes on right there, within what another one holds.
        if (is_seam && remains_.is_held(at)) places.push_back(at);
        std::size_t behind = here, before = std::min(here + 1, runs.size()), grains_of = here;
        std::uint64_t grain_at = at;
        if (behind < runs.size() && runs[behind].offset <= at) ++behind;
        while (before > 0 && runs[before - 1].offset >= at) --before;
        const auto next_grain = [&]() -> std::optional<std::uint64_t> {
            for (; grains_of < runs.size(); ++grains_of) {
                grain_at = std::max(grain_at, runs[grains_of].offset);
                if (grain_at < runs[grains_of].end()) {
                    const std::uint64_t start = grain_at;
                    grain_at += remains_.grain();
                    return start;
                }
            }
            return std::nullopt;
        };
        std::size_t grains_before = std::min(here + 1, runs.size());
        std::uint64_t before_at = at;
        const auto grain_before = [&]() -> std::optional<std::uint64_t> {
            for (; grains_before > 0; --grains_before) {
                const Extent& run = runs[grains_before - 1];
                const std::uint64_t end = std::min(before_at, run.end());
                if (end >= run.offset + remains_.grain()) return before_at = end - remains_.grain();
            }
            return std::nullopt;
        };
        for (std::size_t turn = 0; places.size() < most; ++turn) {
            const std::size_t had = places.size();
            if (turn % 3 == 2 && before > 0) places.push_back(runs[--before].offset);
            if (turn % 3 != 2 && behind < runs.size()) places.push_back(runs[behind++].offset);
            if (turn % 4 == 3 && !only_edges)
                if (const auto grain = grain_before()) places.push_back(*grain);
            if (!only_edges)
                if (const auto grain = next_grain(); grain && *grain != at) places.push_back(*grain);
            if (places.size() == had && behind >= runs.size() && before == 0 &&
                (only_edges || (grains_of >= runs.size() && grains_before == 0)))
                break;
        }
        return places;
    }

    // A state that is reached by some turns, and the ways that lead on from there. What a way costs is how many are
    // likelier than it, as a logarithm; a state costs what the ways to it do, less what it proves by its length.
    struct State {
        Joined joined;
        double cost = 0;
        struct Split {
            std::vector<Extent> pieces;
            std::vector<std::uint64_t> places;
            std::size_t tried = 0;
        };
        std::vector<Split> splits = {};
        bool is_open = false;
    };
    struct Turn {
        double cost;
        std::size_t reach;  // ways up to this one were tried
        std::size_t state;
    };

    // Ways are tried in the order of how likely all their turns together are. The file, where one makes it whole; what
    // gets furthest is left in `best`.
    std::optional<Joined> likeliest_first(const Joined& from, Joined& best) {
        constexpr std::size_t kFirstReach = 8, kMaxStates = 256;
        const std::size_t most = limits_.effort <= Effort::seams ? 48 : limits_.effort == Effort::near ? 1024 : 16384;
        const auto later = [](const Turn& a, const Turn& b) { return a.cost > b.cost; };
        std::priority_queue<Turn, std::vector<Turn>, decltype(later)> turns(later);
        std::vector<State> states;
        states.push_back({from});
        turns.push({0, 0, 0});
        while (!turns.empty() && may_go_on()) {
            const Turn turn = turns.top();
            turns.pop();
            open(states[turn.state], most);
            const std::size_t reach = std::max(kFirstReach, turn.reach * 2);
            for (std::size_t i = 0; i < states[turn.state].splits.size() && i < reach; ++i) {
                const std::size_t count = std::min(states[turn.state].splits[i].places.size(), reach / (i + 1));
                for (; states[turn.state].splits[i].tried < count; ++states[turn.state].splits[i].tried) {
                    if (!may_go_on()) return std::nullopt;
                    State::Split& split = states[turn.state].splits[i];
                    auto next = attempt(states[turn.state].joined, split.pieces, split.places[split.tried]);
                    if (!next) continue;
                    if (is_accepted(*next)) return next;
                    const std::uint64_t gained = next->measured.sure - length_of(split.pieces);
                    const double rank = static_cast<double>((i + 1) * (split.tried + 1));
                    const double proof = proof_of(gained / kSector);
                    const double cost = states[turn.state].cost + temper_.cost_of_turn + std::log2(1 + rank) - proof;
                    // Worth telling of only where more speaks for it than against.
                    if (temper_.cost_of_turn > 0 && cost < 0 && next->measured.sure > best.measured.sure) best = *next;
                    if (states.size() >= kMaxStates || next->pieces.size() > limits_.most_pieces) continue;
                    turns.push({cost, 0, states.size()});
                    states.push_back({std::move(*next), cost});
                }
            }
            if (reach < most)
                turns.push({states[turn.state].cost + std::log2(1.0 + static_cast<double>(reach)), reach, turn.state});
        }
        return std::nullopt;
    }

    // Bits that speak for a way on which the file went on for so many sectors.
    double proof_of(std::uint64_t sectors) const {
        const double usual =
            static_cast<double>(survived_ + temper_.first_survived) / static_cast<double>(tried_ + temper_.first_tries);
        return std::min(kMostProof, static_cast<double>(sectors) / (usual * std::numbers::ln2));
    }

    void open(State& state, std::size_t most) const {
        if (std::exchange(state.is_open, true)) return;
        const bool is_checked = file_.measured.proof != Proof::length;
        const auto splits = splits_of(state.joined, !is_checked);
        for (std::size_t i = 0; i < splits.size() && i < most; ++i) {
            std::vector<Extent> pieces = state.joined.pieces;
            cut(pieces, splits[i]);
            const bool is_seam = pieces.back() == state.joined.pieces[pieces.size() - 1];
            const std::uint64_t at = pieces.back().end();
            state.splits.push_back({std::move(pieces), places_around(at, most / (i + 1), !is_checked, is_seam)});
        }
    }

    // With these pieces, and what nobody holds from `at` on behind them; nothing where that gets no further.
    std::optional<Joined> attempt(const Joined& from, const std::vector<Extent>& pieces, std::uint64_t at) {
        for (const Extent& piece : pieces)
            if (at >= piece.offset && at < piece.end()) return std::nullopt;
        Joined tried = continued(pieces, at);
        if (is_accepted(tried)) return tried;
        const std::uint64_t split = length_of(pieces);
        ++tried_;
        if (tried.measured.sure > split) survived_ += (tried.measured.sure - split) / kSector;
        const std::uint64_t reached = std::max(from.measured.sure, split + remains_.grain() / 4 * 3);
        const bool ran_out = tried.measured.length >= length_of(tried.pieces);
        if (!tried.measured.is_file() || ran_out || tried.measured.sure <= reached) return std::nullopt;
        return tried;
    }

    MediumPtr ground_;
    const Remains& remains_;
    const TornFile& file_;
    const JoinLimits& limits_;
    const Endings* endings_;
    std::uint64_t tail_at_ = 0;  // of the content; 0: none is known
    std::vector<Extent> tail_;
    Temper temper_ = kTempers[0];
    std::uint64_t own_ = 0;  // bytes of its beginning
    const double cost_of_byte_ = cost_of_byte(*file_.format);
    std::uint64_t read_ = 0;  // what was tried has cost, in bytes
    std::uint64_t limit_ = limits_.most_read + limits_.most_read_again * std::max({file_.measured.expected,
                                                                                   file_.measured.length, file_.size});
    formats::StreamMemory memory_;
    std::vector<Extent> remembered_;  // the pieces that it is about
    // How far what is not the file's makes sense all the same, by all that was tried.
    std::uint64_t survived_ = 0, tried_ = 0;  // sectors; tries
};

}  // namespace

std::uint64_t own_part(const TornFile& file, std::uint64_t grain, Effort effort) {
    std::uint64_t own = std::min(file.measured.sure, file.own) / grain * grain;
    if (effort >= Effort::near) own -= std::min(own, kUnsure * grain);
    return std::max(grain, own);
}

namespace {

// Where in what nobody holds a landmark stands, those behind the file's start first.
std::vector<std::uint64_t> places_of(const Landmark& landmark, const Medium& ground, const Remains& remains,
                                     std::uint64_t start, const Budget::Stop& stop) {
    constexpr std::size_t kMax = 16;
    const std::uint64_t grain = remains.grain();
    std::vector<std::uint64_t> behind, before;
    std::vector<std::byte> bytes(landmark.mark.size());
    for (const Extent& run : remains.runs())
        for (std::uint64_t grain_at = run.offset; grain_at < run.end() && !(stop && stop()); grain_at += grain) {
            const std::uint64_t at = grain_at + landmark.at % grain;
            if (at + landmark.mark_after + bytes.size() > run.end()) break;
            std::vector<Extent> bad;
            if (!ground.read(at + landmark.mark_after, bytes, &bad) || !bad.empty() ||
                !ByteView(bytes).has(0, landmark.mark))
                continue;
            (at > start ? behind : before).push_back(at);
        }
    behind.insert(behind.end(), before.rbegin(), before.rend());
    behind.resize(std::min(behind.size(), kMax));
    return behind;
}

}  // namespace

bool is_only_sized(const TornFile& file, std::uint64_t grain) {
    if (file.measured.proof != Proof::length || file.is_head) return false;
    if (file.measured.is_contradicted()) return true;
    return file.is_followed || (file.measured.expected > file.own && file.own < file.measured.length + grain);
}

std::optional<Joined> join(const Medium& ground, const Remains& remains, const TornFile& file, const JoinLimits& limits,
                           const Endings* endings) {
    constexpr std::uint64_t kMaxTail = 4 << 20;
    std::optional<Landmark> landmark;
    if (file.format->landmark) {
        Budget budget(limits.stop);
        Reader reader(ground, budget, file.start);
        landmark = file.format->landmark(reader, file.measured);
    }
    if (landmark && landmark->at > remains.grain()) {
        for (const std::uint64_t at : places_of(*landmark, ground, remains, file.start, limits.stop)) {
            Search search(ground, remains, file, limits);
            std::vector<Extent> pieces;
            const auto& runs = remains.runs();
            for (std::size_t n = remains.run_at(at); n < runs.size() && length_of(pieces) < kMaxTail; ++n) {
                const std::uint64_t from = std::max(at, runs[n].offset);
                append(pieces, {from, std::min(runs[n].end() - from, kMaxTail)});
            }
            search.anchor(landmark->at, std::move(pieces));
            auto joined = search.run();
            if (joined && joined->is_whole) return joined;
        }
    }
    return Search(ground, remains, file, limits, endings).run();
}

std::optional<Joined> align(const Medium& ground, const Remains& remains, const TornFile& file, const Joined& joined,
                            const JoinLimits& limits) {
    Joined aligned = Search(ground, remains, file, limits).aligned(joined);
    return aligned.pieces == joined.pieces ? std::nullopt : std::optional(std::move(aligned));
}

}  // namespace dredger
