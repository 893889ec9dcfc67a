#include "carving/sized_rest.h"

#include <algorithm>

#include "carving/likeness.h"

namespace dredger {
namespace {

constexpr std::size_t kMostEndings = 64;  // of the nearest ones

// Those behind `here` first.
void keep_nearest(std::vector<std::uint64_t>& places, std::uint64_t here) {
    const auto distance = [&](std::uint64_t at) { return at > here ? at - here : 2 * (here - at); };
    std::sort(places.begin(), places.end(),
              [&](std::uint64_t a, std::uint64_t b) { return distance(a) < distance(b); });
    places.resize(std::min(places.size(), kMostEndings));
}

class SizedRest {
  public:
    SizedRest(const Medium& ground, const Remains& remains, const SizedFile& file, const Endings& endings,
              std::uint64_t most_read, const Budget::Stop& stop)
        : ground_(ground), remains_(remains), file_(file), endings_(endings), left_to_read_(most_read), stop_(stop) {}

    // The first piece ends where another file begins.
    std::optional<Extent> behind_own() {
        constexpr std::uint64_t kSample = 32 << 10;
        const std::uint64_t split = file_.own / remains_.grain() * remains_.grain();
        if (split == 0) return std::nullopt;
        const std::uint64_t rest = file_.length - split, seam = file_.start + split;
        std::vector<std::uint64_t> places;
        for (const std::uint64_t end : endings_.of(rest)) {
            const std::uint64_t at = end - rest;
            const Extent* run = remains_.run_around(at);
            const bool is_apart = end <= file_.start || at >= seam;
            if (run != nullptr && run->end() >= end && is_apart && at != seam) places.push_back(at);
        }
        keep_nearest(places, seam);
        const std::uint64_t known = std::min(split, kSample), asked = std::min(rest, kSample);
        const auto before = bytes_at(seam - known, known);
        if (!before) return std::nullopt;
        const Likeness likeness(*before);
        std::optional<Extent> best;
        double least = 0;
        for (const std::uint64_t at : places) {
            if (!may_read(asked)) return std::nullopt;
            const auto behind = bytes_at(at, asked);
            const double bits = behind ? likeness.bits_of(*behind) : 0;
            if (!behind || (best && bits >= least)) continue;
            least = bits;
            best = {at, rest};
        }
        return best;
    }

    // Nothing shows where the first piece ends.
    std::optional<Extent> where_bytes_change() {
        constexpr std::uint64_t kMostLength = 16 << 20;
        constexpr std::size_t kLearnt = 2;  // grains
        constexpr double kClear = 0.75;     // bits a byte
        const std::uint64_t grain = remains_.grain(), length = file_.length;
        const auto grains = static_cast<std::size_t>((length + grain - 1) / grain);
        if (length > kMostLength || grains <= kLearnt + 1 || length + file_.start > ground_.size()) return std::nullopt;
        const auto first = bytes_at(file_.start, kLearnt * grain);
        if (!first) return std::nullopt;
        const Likeness likeness(*first);
        const auto in_one = costs_backwards(likeness, file_.start + length, file_.start);
        if (in_one.size() != grains) return std::nullopt;
        std::vector<std::uint64_t> ends = endings_.of(length % grain);
        std::erase_if(ends, [&](std::uint64_t end) { return end > file_.start && end <= file_.start + length; });
        keep_nearest(ends, file_.start);
        double most = 0;
        std::optional<Extent> best;
        for (const std::uint64_t end : ends) {
            if (!may_read(length)) return std::nullopt;
            const Extent* run = remains_.run_around(end - 1);
            if (run == nullptr || run->end() < end) continue;
            const std::uint64_t least = end <= file_.start ? run->offset : std::max(run->offset, file_.start + grain);
            const auto costs = costs_backwards(likeness, end, least);
            double gain = 0;
            std::uint64_t rest = 0;
            for (std::size_t n = 0; n < costs.size() && n + kLearnt < grains; ++n) {
                gain += in_one[n] - costs[n];
                rest += n == 0 ? last_grain() : grain;
                const bool is_apart = end <= file_.start || end - rest >= file_.start + length - rest;
                if (is_apart && gain > most && gain > kClear * static_cast<double>(rest)) {
                    most = gain;
                    best = {end - rest, rest};
                }
            }
        }
        return best;
    }

    void each_way(const std::function<bool(const Extent& rest)>& take) {
        constexpr std::uint64_t kMostZeros = 4;  // with which it may end
        const std::uint64_t grain = remains_.grain(), length = file_.length;
        const bool is_cut = file_.own < length;
        std::vector<std::uint64_t> ends;
        for (std::uint64_t zeros = 0; zeros <= kMostZeros && zeros < length; ++zeros)
            for (const std::uint64_t end : endings_.of(length - zeros)) ends.push_back(end + zeros);
        keep_nearest(ends, file_.start);
        std::vector<std::uint64_t> splits;
        if (is_cut) {
            splits.push_back(file_.own / grain * grain);
        } else {
            // Packed bytes are never plain: those before such are likelier.
            const std::uint64_t last = (length - 1) / grain * grain, plain = first_plain() / grain * grain;
            for (std::uint64_t split = plain; split > 0; split -= grain) splits.push_back(split);
            for (std::uint64_t split = last; split > plain; split -= grain) splits.push_back(split);
        }
        for (const std::uint64_t end : ends) {
            const Extent* run = remains_.run_around(end - 1);
            if (run == nullptr || run->end() < end || end == file_.start + length) continue;
            for (const std::uint64_t split : splits) {
                const std::uint64_t rest = length - split;
                const bool is_apart = end <= file_.start || (end >= rest && end - rest >= file_.start + split);
                if (end >= run->offset + rest && is_apart && !take({end - rest, rest})) return;
            }
        }
    }

  private:
    std::optional<std::vector<std::byte>> bytes_at(std::uint64_t at, std::uint64_t size) const {
        auto bytes = ground_.bytes(at, static_cast<std::size_t>(size));
        return bytes ? std::optional(std::move(*bytes)) : std::nullopt;
    }
    // Where in one piece the first sector of something else lies; 0: that does not show.
    std::uint64_t first_plain() const {
        Budget budget;
        Reader reader(ground_, budget, file_.start);
        return reader.first_plain_sector(remains_.grain(), file_.length).value_or(0);
    }
    bool may_read(std::uint64_t bytes) {
        if (bytes > left_to_read_ || (stop_ && stop_())) return false;
        left_to_read_ -= bytes;
        return true;
    }
    // Bytes of the file that lie in its last one.
    std::uint64_t last_grain() const { return (file_.length - 1) % remains_.grain() + 1; }

    // What each of its grains costs, from the one that ends at `end` backwards, for who expects them to be like what
    // was learnt: bits. Fewer where they would begin before `least`, or can't be read.
    std::vector<double> costs_backwards(const Likeness& likeness, std::uint64_t end, std::uint64_t least) const {
        std::vector<double> costs;
        std::uint64_t size = last_grain(), left = file_.length;
        for (std::uint64_t at = end; left > 0 && at >= least + size; size = remains_.grain()) {
            at -= size;
            left -= size;
            const auto bytes = bytes_at(at, size);
            if (!bytes) break;
            costs.push_back(likeness.bits_of(*bytes) * static_cast<double>(size));
        }
        return costs;
    }

    const Medium& ground_;
    const Remains& remains_;
    const SizedFile& file_;
    const Endings& endings_;
    std::uint64_t left_to_read_;
    const Budget::Stop& stop_;
};

}  // namespace

std::optional<Extent> rest_of_sized(const Medium& ground, const Remains& remains, const SizedFile& file,
                                    const Endings& endings, std::uint64_t most_read, const Budget::Stop& stop) {
    SizedRest search(ground, remains, file, endings, most_read, stop);
    return file.own < file.length ? search.behind_own() : search.where_bytes_change();
}

void each_rest_of_sized(const Medium& ground, const Remains& remains, const SizedFile& file, const Endings& endings,
                        const std::function<bool(const Extent& rest)>& take) {
    const Budget::Stop never;
    SizedRest(ground, remains, file, endings, 0, never).each_way(take);
}

}  // namespace dredger
