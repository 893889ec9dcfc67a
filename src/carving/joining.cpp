#include "carving/joining.h"

#include <algorithm>

#include "media/content.h"

namespace dredger {
namespace {

constexpr std::uint64_t kSector = 512;

// One gap after another: the pieces so far are believed, the last one runs on to the end of the ground.
class Search {
  public:
    Search(const Medium& ground, const Format& format, const JoinLimits& limits)
        : ground_(std::shared_ptr<void>(), &ground), format_(format), limits_(limits) {}

    // The pieces that come next: whole where there is a way, else those with the smallest gap that get clearly further.
    std::optional<Joined> next(const Joined& from) {
        // What the format tells is tried one gap after the other, each with a share of what may be read.
        const std::vector<std::uint64_t> told = told_gaps(from);
        const std::uint64_t most_read = limit_;
        for (std::size_t i = 0; i < told.size(); ++i) {
            limit_ = std::min(most_read, read_ + limits_.most_read / (told.size() + 1));
            if (auto found = among(from, {told[i]}, limits_.most_told_split, true)) return found;
        }
        limit_ = most_read;
        // Small gaps are the likeliest, wherever the split is.
        std::uint64_t gap = 1;
        for (const std::uint64_t most : {limits_.most_gap / 8, limits_.most_gap / 2, limits_.most_gap}) {
            std::vector<std::uint64_t> gaps;
            for (; gap <= most; ++gap) gaps.push_back(gap * limits_.cluster);
            if (auto found = among(from, gaps, limits_.most_split, false)) return found;
        }
        return std::nullopt;
    }

  private:
    static std::uint64_t length_of(const std::vector<Extent>& pieces) {
        std::uint64_t length = 0;
        for (const Extent& piece : pieces) length += piece.length;
        return length;
    }

    // Split at every cluster from the trouble backwards, with each of these gaps. Where the format told them, all
    // splits are tried for one that makes it whole.
    std::optional<Joined> among(const Joined& from, const std::vector<std::uint64_t>& gaps, std::uint64_t most_split,
                                bool are_told) {
        const std::uint64_t cluster = limits_.cluster;
        const std::uint64_t last = from.measured.length / cluster * cluster;
        const std::uint64_t first =
            std::max(from.measured.sure / cluster * cluster, last - std::min(last, most_split * cluster));
        const std::uint64_t fixed = length_of(from.pieces) - from.pieces.back().length;  // before the last piece
        std::optional<Joined> better;
        for (std::uint64_t split = last;; split -= cluster) {
            for (auto gap = gaps.begin(); split > fixed && gap != gaps.end() && read_ < limit_ && !is_stopped(); ++gap)
                if (auto whole = attempt(from, split, *gap, better)) return whole;
            if ((better && !are_told) || split <= first || split < cluster) break;
        }
        return better;
    }

    bool is_stopped() const { return limits_.stop && limits_.stop(); }

    std::vector<std::uint64_t> told_gaps(const Joined& from) {
        std::vector<std::uint64_t> gaps;
        if (format_.gaps == nullptr) return gaps;
        const Content content(ground_, from.pieces);
        Budget budget(limits_.stop);
        Reader reader(content, budget);
        for (const std::uint64_t gap : format_.gaps(reader, from.measured))
            if (gap % limits_.cluster == 0 && std::find(gaps.begin(), gaps.end(), gap) == gaps.end())
                gaps.push_back(gap);
        read_ += budget.bytes_spent();
        return gaps;
    }

    std::optional<Joined> attempt(const Joined& from, std::uint64_t split, std::uint64_t gap,
                                  std::optional<Joined>& better) {
        Joined tried = with_gap(from, split, gap);
        if (tried.pieces.empty()) return std::nullopt;
        if (tried.measured.is_whole()) return tried;
        if (tried.measured.end == Measured::End::open && from.measured.end == Measured::End::broken) return tried;
        // The rest fits now, but not so the stretch before: it was split earlier.
        if (tried.measured.length < split) {
            const std::uint64_t cluster = limits_.cluster;
            std::uint64_t earlier = std::min(split, tried.measured.length / cluster * cluster + cluster);
            const std::uint64_t least = tried.measured.sure / cluster * cluster;
            for (unsigned n = 0; n < limits_.most_split && earlier > least && earlier > cluster && read_ < limit_;
                 ++n) {
                earlier -= cluster;
                if (earlier == split) continue;
                Joined again = with_gap(from, earlier, gap);
                if (!again.pieces.empty() && again.measured.is_whole()) return again;
            }
        }
        const std::uint64_t reached = std::max(from.measured.sure, split) + limits_.cluster + kSector;
        if (!better && tried.measured.sure > reached) better = std::move(tried);
        return std::nullopt;
    }

    // `from` with `gap` bytes left out at `split`. No pieces where there is nothing behind.
    Joined with_gap(const Joined& from, std::uint64_t split, std::uint64_t gap) {
        Joined tried;
        std::vector<Extent> pieces = from.pieces;
        const std::uint64_t before = length_of(pieces) - pieces.back().length;
        const Extent last = pieces.back();
        if (split <= before || split - before >= last.length || last.length - (split - before) <= gap) return tried;
        pieces.back().length = split - before;
        const std::uint64_t behind = last.offset + (split - before) + gap;
        pieces.push_back({behind, last.end() - behind});
        const Content content(ground_, pieces);
        Budget budget(limits_.stop);
        Reader reader(content, budget);
        tried.measured = measure(format_, reader);
        read_ += budget.bytes_spent();
        if (tried.measured.is_file()) tried.pieces = std::move(pieces);
        return tried;
    }

    MediumPtr ground_;
    const Format& format_;
    const JoinLimits& limits_;
    std::uint64_t limit_ = limits_.most_read;  // of what is read, for now
    std::uint64_t read_ = 0;                   // bytes, and a share of those unpacked
};

void cut(std::vector<Extent>& pieces, std::uint64_t length) {
    for (std::size_t i = 0; i < pieces.size(); ++i) {
        if (pieces[i].length >= length) {
            pieces[i].length = length;
            pieces.resize(i + 1);
            return;
        }
        length -= pieces[i].length;
    }
}

}  // namespace

std::optional<Joined> join(const Medium& ground, std::uint64_t start, const Format& format, const Measured& found,
                           const JoinLimits& limits) {
    Search search(ground, format, limits);
    Joined best{found, {{start, ground.size() - start}}};
    while (best.pieces.size() < limits.most_pieces && !best.measured.is_whole()) {
        auto next = search.next(best);
        if (!next) break;
        best = std::move(*next);
    }
    if (best.pieces.size() == 1) return std::nullopt;
    cut(best.pieces, best.measured.length);
    return best;
}

}  // namespace dredger
