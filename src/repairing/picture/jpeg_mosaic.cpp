#include "repairing/picture/jpeg_mosaic.h"

#include <algorithm>
#include <cmath>

namespace dredger::repairing {
namespace {

constexpr std::size_t kLeastSense = 40;        // MCUs without a contradiction that show that decoding is in step
constexpr std::size_t kLeastFirstSense = 150;  // where nothing stands before it
constexpr float kLeastJump = 2;                // levels
constexpr std::size_t kBeside = 4;             // MCUs on each side of a jump that show it
constexpr std::size_t kLeastPlaced = 6;        // MCUs by whose borders a stretch can be placed

float median_of(std::vector<float> values) {
    if (values.empty()) return 0;
    const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
    std::nth_element(values.begin(), middle, values.end());
    return *middle;
}

// By how much most of the steps are off, those in smooth places before all: a mean in which what lies far from it
// counts for nothing (Tukey's biweight).
float middle_of(const std::vector<JpegPicture::Step>& steps) {
    if (steps.empty()) return 0;
    std::vector<float> values;
    for (const JpegPicture::Step& step : steps) values.push_back(step.by);
    float middle = median_of(values);
    for (float& value : values) value = std::abs(value - middle);
    const float reach = 4 * std::max(median_of(values), 0.5F);
    for (unsigned round = 0; round < 20; ++round) {
        float sum = 0;
        float weights = 0;
        for (const JpegPicture::Step& step : steps) {
            const float far = (step.by - middle) / reach;
            if (std::abs(far) >= 1) continue;
            const float near = 1 - far * far;
            const float weight = near * near / (1 + step.slope * step.slope);
            sum += weight * step.by;
            weights += weight;
        }
        if (weights <= 0) break;
        middle = sum / weights;
    }
    return middle;
}

// A part of the data that begins and ends where its MCUs are counted from.
struct Stretch {
    std::size_t from = 0, to = 0;     // bits
    std::size_t first = 0, last = 0;  // MCUs: those from `first` to before `last`
    bool end_is_known = true;         // the last one ends at `to`
};

class Piecing {
  public:
    Piecing(const JpegHeader& header, const JpegScanData& data, bool starts_late,
            const std::function<bool()>& should_stop)
        : header_(header),
          data_(data),
          starts_late_(starts_late),
          should_stop_(should_stop),
          decoder_(header, data.bytes),
          result_{JpegPicture(header)} {}

    JpegMosaic run() {
        const std::vector<Stretch> stretches = header_.restart_interval == 0 ? one_stretch() : by_restarts();
        for (const Stretch& stretch : stretches) {
            if (should_stop_()) break;
            lay(stretch);
        }
        for (std::size_t c = 0; c < result_.picture.components().size(); ++c) take_out_jumps(c);
        JpegPicture& picture = result_.picture;
        std::size_t known = 0;
        for (std::size_t mcu = 0; mcu < picture.mcus(); ++mcu) known += picture.is_known(mcu) ? 1 : 0;
        result_.is_complete = result_.damaged_places == 0 && known == picture.mcus();
        return std::move(result_);
    }

  private:
    std::vector<Stretch> one_stretch() const {
        return {{0, data_.bytes.size() * 8, 0, result_.picture.mcus(), data_.has_end}};
    }

    // Between restart markers. Which interval one is, is told by its number and its neighbours, but for whole rounds of
    // eight that are missing: those by where the last one ends.
    std::vector<Stretch> by_restarts() {
        std::vector<Stretch> stretches;
        const std::size_t interval = header_.restart_interval;
        const std::size_t mcus = result_.picture.mcus();
        const std::size_t intervals = (mcus + interval - 1) / interval;
        std::size_t from = 0;
        std::size_t index = starts_late_ && !data_.marks.empty() ? data_.marks.front().number : 0;
        std::size_t unfit = 0;                   // of the last intervals, those that don't decode
        std::optional<std::size_t> first_unfit;  // of all, in `stretches`
        for (std::size_t i = 0; i <= data_.marks.size() && index < intervals; ++i) {
            const bool is_last = i == data_.marks.size();
            const std::size_t to = is_last ? data_.bytes.size() : data_.marks[i].at;
            Stretch stretch{from * 8, to * 8, index * interval, std::min(mcus, (index + 1) * interval),
                            !is_last || data_.has_end};
            const McuDecoder::Run run = decoder_.decode({stretch.from, 0}, stretch.to, stretch.last - stretch.first);
            const bool fits = !run.broke && run.mcus() == stretch.last - stretch.first;
            if (fits) {
                unfit = 0;
            } else if (!is_last && (index % 8) != data_.marks[i].number && is_accident(i)) {
                continue;  // what looks like a marker is a part of the damage
            }
            if (!fits && !first_unfit) first_unfit = stretches.size();
            stretches.push_back(stretch);
            unfit += fits ? 0 : 1;
            from = to;
            ++index;
            if (is_last) break;
            // A marker of another number: intervals are missing.
            const std::size_t skipped = (data_.marks[i].number + 8 - (index - 1) % 8) % 8;
            if (skipped == 0) continue;
            ++result_.damaged_places;
            // Or some of those before it only looked like markers: then all up to it is one interval.
            if (const std::size_t back = 8 - skipped; back < skipped && unfit >= back && stretches.size() > back) {
                stretches.resize(stretches.size() - back);
                stretches.back().to = stretch.to;
                index -= back;
                unfit = 1;
                continue;
            }
            if (!fits) stretches.back().end_is_known = false;
            index += skipped;
        }
        const std::size_t missing = (intervals - std::min(intervals, index)) / 8 * 8;
        if (data_.has_end && first_unfit && missing != 0)
            for (std::size_t i = starts_late_ ? 0 : *first_unfit + 1; i < stretches.size(); ++i) {
                stretches[i].first = std::min(mcus, stretches[i].first + missing * interval);
                stretches[i].last = std::min(mcus, stretches[i].last + missing * interval);
            }
        return stretches;
    }

    // Whether the marker behind an interval that does not decode leads nowhere.
    bool is_accident(std::size_t mark) const {
        const std::size_t next = mark + 1 < data_.marks.size() ? data_.marks[mark + 1].at : data_.bytes.size();
        const McuDecoder::Run run = decoder_.decode({data_.marks[mark].at * 8, 0}, next * 8, header_.restart_interval);
        return run.broke;
    }

    // The first known damage that ends behind a bit.
    std::vector<Extent>::const_iterator damage_from(std::size_t bit) const {
        return std::partition_point(data_.damage.begin(), data_.damage.end(),
                                    [&](const Extent& extent) { return extent.end() * 8 <= bit; });
    }
    // Where known damage begins at or behind a bit, at most `to`.
    std::size_t next_damage(std::size_t bit, std::size_t to) const {
        auto next = damage_from(bit);
        if (next != data_.damage.end() && next->offset * 8 < bit) ++next;
        return next == data_.damage.end() ? to : std::min(to, static_cast<std::size_t>(next->offset) * 8);
    }
    std::size_t behind_damage(std::size_t bit) const {
        const auto here = damage_from(bit);
        return here != data_.damage.end() && here->offset * 8 <= bit ? static_cast<std::size_t>(here->end()) * 8 : bit;
    }

    // Whether a marker that does not belong stands on both sides, close to each other: so it is where all is foreign.
    bool is_between_strays(std::size_t from, std::size_t to) const {
        constexpr std::size_t kClose = 1024;  // bytes
        if (to - from > kClose * 8) return false;
        const auto next = damage_from(from);
        return next != data_.damage.begin() && next != data_.damage.end() && next->offset * 8 == to &&
               next->length == 1 && std::prev(next)->length == 1 && std::prev(next)->end() * 8 == from;
    }

    void lay(const Stretch& stretch) {
        std::size_t mcu = stretch.first;
        sure_ = stretch.first;
        McuDecoder::Place place{stretch.from, 0};
        const bool is_late = starts_late_ && stretch.from == 0;
        // Of an interval without its start nothing tells how bright it is.
        if (is_late && header_.restart_interval != 0) {
            ++result_.damaged_places;
            return;
        }
        bool in_step = !is_late;
        while (mcu < stretch.last && place.bit < stretch.to && !should_stop_()) {
            if (!in_step) {
                place = {behind_damage(place.bit), 0};
                const std::size_t limit = next_damage(place.bit, stretch.to);
                if (is_between_strays(place.bit, limit)) {
                    place.bit = limit;
                    continue;
                }
                const bool is_first = is_late && mcu == stretch.first;
                const auto found =
                    decoder_.find_sense(place.bit, limit, is_first ? kLeastFirstSense : kLeastSense, should_stop_);
                if (!found && limit == stretch.to) return;
                place = found.value_or(McuDecoder::Place{limit, 0});
                if (!found) continue;
            }
            const std::size_t end = next_damage(place.bit, stretch.to);
            const McuDecoder::Run run =
                decoder_.decode(place, end, in_step ? stretch.last - mcu : stretch.last - stretch.first, in_step);
            const bool reached_end = !run.broke && end == stretch.to && stretch.to - run.end <= 7;
            const bool is_exact = reached_end && stretch.end_is_known;
            if (!in_step && !place_run(run, stretch, mcu, is_exact)) {
                place.bit = run.mcus() > 0 ? run.starts.back() + 1 : place.bit + 1;
                continue;
            }
            const bool fits =
                is_exact ? !in_step || mcu + run.mcus() == stretch.last : reached_end && !stretch.end_is_known;
            if (in_step) put(run, mcu, 0, run.mcus());
            if (fits) return;
            ++result_.damaged_places;
            // It came in step again with MCUs missing: what follows the damage ends where the picture does.
            if (in_step && is_exact && move_to_end(run, mcu, stretch.last)) return;
            // What decodes behind the damage before it shows looks like nothing that belongs there.
            const std::size_t good = first_oddity(mcu, run.mcus());
            for (std::size_t i = good; i < run.mcus(); ++i) result_.picture.forget(mcu + i);
            if (good < run.mcus())
                place.bit = (good == 0 && !in_step ? run.starts.back() : run.starts[good]) + 1;
            else
                place.bit = end < stretch.to ? end : std::max(run.end, place.bit + 1);
            mcu += good;
            if (in_step) sure_ = mcu;
            in_step = false;
        }
    }

    void put(const McuDecoder::Run& run, std::size_t mcu, std::size_t from, std::size_t to) {
        const std::size_t blocks = decoder_.blocks_in_mcu();
        for (std::size_t i = from; i < to; ++i)
            result_.picture.set(mcu + i - from, std::span(run.blocks).subspan(i * blocks, blocks));
    }

    // Puts a run where it belongs, at or behind `mcu`, which then tells where that is. False where that can't be told.
    bool place_run(const McuDecoder::Run& run, const Stretch& stretch, std::size_t& mcu, bool is_exact) {
        if (run.mcus() < (is_exact ? 1 : kLeastPlaced)) return false;
        if (is_exact) {
            // The end is surer than what was put by its borders alone.
            const std::size_t room = stretch.last - sure_;
            if (run.mcus() > room + 2 * McuDecoder::kOutOfStep) return false;
            const std::size_t skipped = run.mcus() - std::min(run.mcus(), room);
            mcu = stretch.last - run.mcus() + skipped;
            put(run, mcu, skipped, run.mcus());
            settle_dc(mcu, run.mcus() - skipped);
            drop_first_oddities(mcu, run.mcus() - skipped);
            return true;
        }
        const std::size_t room = stretch.last - mcu;
        if (run.mcus() > room) return false;
        const std::size_t furthest = std::min(room - run.mcus(), 2 * result_.picture.mcus_across());
        std::size_t best = 0;
        float least = 1e9F;
        for (std::size_t skip = 0; skip <= furthest; ++skip) {
            const float misfit = misfit_at(run, mcu + skip);
            if (misfit >= least) continue;
            least = misfit;
            best = skip;
        }
        if (least >= 1e9F) return false;
        mcu += best;
        put(run, mcu, 0, run.mcus());
        settle_dc(mcu, run.mcus());
        drop_first_oddities(mcu, run.mcus());
        return true;
    }

    // How badly the run goes with what stands above it, wherever its brightness lies.
    float misfit_at(const McuDecoder::Run& run, std::size_t mcu) {
        JpegPicture& picture = result_.picture;
        const std::size_t count = std::min(run.mcus(), picture.mcus_across());
        std::vector<float> offsets;
        put(run, mcu, 0, count);
        for (std::size_t i = 0; i < count; ++i) {
            const JpegPicture::Fit fit = picture.fit_above(mcu + i, 0);
            if (fit.pixels > 0) offsets.push_back(fit.offset);
        }
        for (std::size_t i = 0; i < count; ++i) picture.forget(mcu + i);
        if (offsets.size() < kLeastPlaced) return 1e9F;
        const float offset = median_of(offsets);
        float sum = 0;
        for (const float one : offsets) sum += std::min(std::abs(one - offset), 64.F);
        return sum / static_cast<float>(offsets.size());
    }

    // Takes out what the brightness and colours of `count` MCUs are off by, as their borders with what is above show.
    void settle_dc(std::size_t mcu, std::size_t count) {
        JpegPicture& picture = result_.picture;
        for (std::size_t c = 0; c < picture.components().size(); ++c) {
            std::vector<JpegPicture::Step> steps;
            for (std::size_t i = 0; i < std::min(count, picture.mcus_across()); ++i) {
                const std::vector<JpegPicture::Step> here = picture.steps_from_above(mcu + i, c);
                steps.insert(steps.end(), here.begin(), here.end());
            }
            if (steps.empty())
                if (const JpegPicture::Fit fit = picture.fit_left(mcu, c); fit.pixels > 0)
                    steps.push_back({fit.offset, 0});
            if (steps.empty()) {
                raise(mcu, count, c, -middle_level(mcu, count, c));
                result_.is_tinted = true;
                continue;
            }
            raise(mcu, count, c, -step_over(mcu, count, c, middle_of(steps)));
            keep_in_range(mcu, count, c);
        }
    }

    // Halfway between the darkest and the brightest; of a colour, what most have.
    float middle_level(std::size_t mcu, std::size_t count, std::size_t c) const {
        std::vector<float> means;
        for (std::size_t i = std::min(McuDecoder::kOutOfStep, count); i < count; ++i)
            if (result_.picture.is_known(mcu + i)) means.push_back(result_.picture.mean_of(mcu + i, c));
        if (means.empty()) return 0;
        if (c > 0) return median_of(means);
        std::sort(means.begin(), means.end());
        const std::size_t odd = means.size() / 500;
        return (means[odd] + means[means.size() - 1 - odd]) / 2;
    }

    // By how much the brightness of what follows is off: what its upper border tells `direct`ly, and across a wide gap
    // as much what carrying on tells.
    float step_over(std::size_t mcu, std::size_t count, std::size_t c, float direct) const {
        const std::optional<float> carried = step_across_gap(mcu, count, c);
        return carried ? (direct + *carried) / 2 : direct;
    }

    // Where whole rows are missing above, no pixels meet: by how much the brightness steps there, when what it does row
    // by row above and below is carried on to the middle of the gap. None where there is no such gap.
    std::optional<float> step_across_gap(std::size_t mcu, std::size_t count, std::size_t c) const {
        constexpr std::size_t kRows = 6;
        constexpr std::size_t kWideGap = 3;  // rows of MCUs
        const JpegPicture& picture = result_.picture;
        const std::size_t across = picture.mcus_across();
        const std::size_t first = (mcu + across - 1) / across;  // the first whole row of what follows
        std::size_t last = mcu / across;                        // and the last whole one before it
        const auto is_whole = [&](std::size_t row) {
            for (std::size_t i = row * across; i < (row + 1) * across; ++i)
                if (!picture.is_known(i)) return false;
            return true;
        };
        while (last > 0 && !is_whole(last - 1)) --last;
        if (last == 0 || mcu - last * across < kWideGap * across || mcu + count < (first + 2) * across)
            return std::nullopt;
        --last;
        // Means of rows, and the line through them (x counts rows from the top).
        const auto line_at = [&](std::size_t from, std::size_t to, double x) {
            double n = 0, sx = 0, sy = 0, sxx = 0, sxy = 0;
            for (std::size_t row = from; row <= to && (row + 1) * across <= picture.mcus() && is_whole(row); ++row) {
                double mean = 0;
                for (std::size_t i = 0; i < across; ++i) mean += picture.mean_of(row * across + i, c);
                mean /= static_cast<double>(across);
                const auto place = static_cast<double>(row);
                n += 1, sx += place, sy += mean, sxx += place * place, sxy += place * mean;
            }
            const double spread = n * sxx - sx * sx;
            if (n < 2 || spread == 0) return n == 0 ? 0.0 : sy / n;
            const double slope = (n * sxy - sx * sy) / spread;
            return (sy - slope * sx) / n + slope * x;
        };
        const double middle = (static_cast<double>(last) + static_cast<double>(first)) / 2;
        return static_cast<float>(line_at(first, first + kRows - 1, middle) -
                                  line_at(last - std::min(last, kRows - 1), last, middle));
    }

    // No block is darker than black or brighter than white: that bounds what a guess across a gap can be.
    void keep_in_range(std::size_t mcu, std::size_t count, std::size_t c) {
        constexpr float kBeyond = 3;  // levels by which rounding goes beyond
        JpegPicture& picture = result_.picture;
        std::vector<float> means;
        for (std::size_t i = std::min(McuDecoder::kOutOfStep, count); i < count; ++i)
            if (picture.is_known(mcu + i)) means.push_back(picture.mean_of(mcu + i, c));
        if (means.empty()) return;
        std::sort(means.begin(), means.end());
        // A few may be what came of being out of step.
        const float lowest = means[means.size() / 500];
        const float highest = means[means.size() - 1 - means.size() / 500];
        if (highest - lowest > 255) return;
        if (lowest < -128 - kBeyond) raise(mcu, count, c, -128 - lowest);
        if (highest > 127 + kBeyond) raise(mcu, count, c, 127 - highest);
    }

    // A flipped bit can change the brightness of all that follows, and still all of it decodes. It shows as a step of
    // one height along the length of a row, which begins in the middle of one and goes on in the next.
    void take_out_jumps(std::size_t component) {
        JpegPicture& picture = result_.picture;
        const std::size_t across = picture.mcus_across();
        if (across < kLeastPlaced || picture.mcus() < 3 * across) return;
        std::vector<float> offsets(picture.mcus());
        for (std::size_t mcu = across; mcu < picture.mcus(); ++mcu)
            if (picture.is_known(mcu) && picture.is_known(mcu - across))
                offsets[mcu] = middle_of(picture.steps_from_above(mcu, component));
        const auto median_in = [&](std::size_t from) {
            return median_of({offsets.begin() + static_cast<std::ptrdiff_t>(from),
                              offsets.begin() + static_cast<std::ptrdiff_t>(from + across)});
        };
        const auto is_near = [&](std::size_t mcu, float level, float jump) {
            return std::abs(offsets[mcu] - level) < std::abs(jump) / 3;
        };
        for (std::size_t mcu = across + kBeside; mcu + across <= picture.mcus(); ++mcu) {
            const float step = offsets[mcu];
            if (std::abs(step) < kLeastJump || mcu % across == 0 || !is_near(mcu - 1, 0, step)) continue;
            const float jump = median_in(mcu);
            if (std::abs(jump) < kLeastJump || std::abs(median_in(mcu - across)) > std::abs(jump) / 3) continue;
            // All of the row behind it and of the next one before it are off, and what goes on below is not.
            const std::size_t wrap = (mcu / across + 1) * across;
            const auto agree = [&](std::size_t from, std::size_t to, float level) {
                std::size_t near = 0;
                for (std::size_t i = from; i < to; ++i) near += is_near(i, level, jump) ? 1 : 0;
                return to - from >= kBeside && near * 4 >= (to - from) * 3;
            };
            const std::size_t below = std::min(mcu + across + kBeside, picture.mcus());
            if (!agree(mcu, wrap, jump) || !agree(wrap, mcu + across, jump) || !agree(mcu - kBeside, mcu, 0) ||
                (below > mcu + across + kBeside - 1 && !agree(mcu + across, below, 0)))
                continue;
            ++result_.jumps;
            const std::size_t interval = header_.restart_interval;
            const std::size_t end =
                interval == 0 ? picture.mcus() : std::min(picture.mcus(), (mcu / interval + 1) * interval);
            raise(mcu, end - mcu, component, -jump);
            for (std::size_t i = mcu; i < std::min(mcu + across, end); ++i) offsets[i] -= jump;
            mcu += across / 2;
        }
    }

    // The first MCUs of a stretch may come of being out of step still: forgets those.
    void drop_first_oddities(std::size_t mcu, std::size_t count) {
        const std::size_t some = std::min(count, result_.picture.mcus_across());
        std::vector<float> costs(some);
        for (std::size_t i = 0; i < some; ++i) costs[i] = misfit_of(mcu + i);
        const float usual = usual_of(costs);
        std::size_t odd = 0;
        for (std::size_t i = 0; i < std::min(some, McuDecoder::kOutOfStep); ++i)
            if (costs[i] > usual) odd = i + 1;
        for (std::size_t i = 0; i < odd; ++i) result_.picture.forget(mcu + i);
    }

    // Up to what misfit an MCU may belong where it is, by those of others.
    static float usual_of(const std::vector<float>& costs) {
        return std::clamp(2.5F * median_of(costs) + 8, 12.F, 48.F);
    }

    // By so many levels, in whole steps of the quantisation.
    void raise(std::size_t mcu, std::size_t count, std::size_t component, float levels) {
        JpegPicture& picture = result_.picture;
        const auto steps = static_cast<int>(std::lround(levels * 8 / picture.components()[component].step[0]));
        if (steps == 0) return;
        for (std::size_t i = 0; i < count; ++i)
            if (picture.is_known(mcu + i)) picture.add_to_dc(mcu + i, component, steps);
    }

    // How far the borders of an MCU are from those of its neighbours; levels.
    float misfit_of(std::size_t mcu) const {
        const JpegPicture::Fit above = result_.picture.fit_above(mcu, 0);
        const JpegPicture::Fit left = result_.picture.fit_left(mcu, 0);
        const std::size_t pixels = above.pixels + left.pixels;
        if (pixels == 0) return 0;
        return (above.apart * static_cast<float>(above.pixels) + left.apart * static_cast<float>(left.pixels)) /
               static_cast<float>(pixels);
    }

    // Rows below a place where MCUs are missing go on each other again: only the row behind it does not. Moves what
    // follows it by what is missing.
    bool move_to_end(const McuDecoder::Run& run, std::size_t mcu, std::size_t last) {
        const std::size_t across = result_.picture.mcus_across();
        if (run.mcus() >= last - mcu || run.mcus() < 2 * across) return false;
        std::vector<float> costs(run.mcus());
        for (std::size_t i = 0; i < costs.size(); ++i) costs[i] = misfit_of(mcu + i);
        float sum = 0;
        for (std::size_t i = 0; i < across; ++i) sum += costs[i];
        float most = sum;
        std::size_t ridge = 0;
        for (std::size_t i = 1; i + across <= costs.size(); ++i) {
            sum += costs[i + across - 1] - costs[i - 1];
            if (sum <= most) continue;
            most = sum;
            ridge = i;
        }
        if (most / static_cast<float>(across) < 1.5F * median_of(costs) + 2) return false;
        const std::size_t missing = last - mcu - run.mcus();
        for (std::size_t i = ridge; i < run.mcus(); ++i) result_.picture.forget(mcu + i);
        // The first ones behind the damage came of being out of step.
        const std::size_t first = std::min(ridge + McuDecoder::kOutOfStep, run.mcus());
        put(run, mcu + missing + first, first, run.mcus());
        settle_dc(mcu + missing + first, run.mcus() - first);
        return true;
    }

    // From which of `count` MCUs on nothing fits any more up to the last of them; `count` where all seem right.
    std::size_t first_oddity(std::size_t mcu, std::size_t count) const {
        std::vector<float> costs(count);
        for (std::size_t i = 0; i < count; ++i) costs[i] = misfit_of(mcu + i);
        const float usual = usual_of(costs);
        std::size_t first = count;
        float sum = 0;
        float most = 0;
        for (std::size_t i = count; i-- > 0;) {
            sum += costs[i] - usual;
            if (sum <= most) continue;
            most = sum;
            first = i;
        }
        return first;
    }

    const JpegHeader& header_;
    const JpegScanData& data_;
    bool starts_late_;
    const std::function<bool()>& should_stop_;
    McuDecoder decoder_;
    JpegMosaic result_;
    std::size_t sure_ = 0;  // MCUs up to this one were counted from the start
};

}  // namespace

JpegMosaic piece_together(const JpegHeader& header, const JpegScanData& data, bool starts_late,
                          const std::function<bool()>& should_stop) {
    return Piecing(header, data, starts_late, should_stop).run();
}

}  // namespace dredger::repairing
