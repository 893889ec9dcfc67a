#include "repairing/film/sample_search.h"

#include <algorithm>
#include <array>

namespace dredger::repairing {
namespace {

constexpr std::size_t kLongestSound = 4 << 20;  // bytes of plain sound between two pictures
constexpr std::size_t kLongestCut = 1 << 20;    // bytes of a sample that was cut off
constexpr std::size_t kMostChunks = 8;          // of plain sound that follow each other
constexpr std::size_t kLooked = 400;            // samples of a track that are looked at

class Search {
  public:
    Search(std::vector<FilmTrack>& tracks, const Medium& content, std::uint64_t to) : window_(content, to) {
        for (FilmTrack& track : tracks) {
            auto syntax = syntax_of(track);
            if (!syntax && track.frame_size == 0) continue;
            track.samples.clear();
            if (!syntax)
                plain_ = &track;
            else if (syntax->has_no_length())
                unsized_ = {&track, std::move(syntax), 0};
            else if (syntax->is_telling())
                telling_.push_back({&track, std::move(syntax), 0});
            else
                vague_.push_back({&track, std::move(syntax), 0});
        }
    }

    SampleSearch run(std::uint64_t at, const std::function<bool()>& should_stop) {
        bool in_step = true;
        for (std::uint64_t steps = 0; at < window_.end() && !(steps % 256 == 0 && should_stop()); ++steps) {
            if (const std::uint64_t next = sample_at(at, in_step); next > at) {
                result_.found += next - at;
                at = next;
                in_step = true;
                continue;
            }
            if (in_step) ++result_.places;
            in_step = false;
            ++at;
            ++result_.lost;
        }
        return result_;
    }

  private:
    struct Kind {
        FilmTrack* track = nullptr;
        std::unique_ptr<SampleSyntax> syntax;
        std::uint64_t longest = 0;  // bytes of a sample found so far
    };

    // Takes the sample at `at`; where it ends, or `at` where there is none.
    std::uint64_t sample_at(std::uint64_t at, bool in_step) {
        in_step_ = in_step;
        const auto bytes = window_.from(at);
        for (Kind& kind : telling_)
            if (const std::size_t length = kind.syntax->length(bytes);
                length > 0 && leads_on(at + length) && (in_step || is_believable(kind, at, length)))
                return take(kind, at, length);
        if (unsized_.track != nullptr && unsized_.syntax->begins(bytes))
            if (const std::uint64_t end = end_of_unsized(at); end > at)
                return take(unsized_, at, static_cast<std::size_t>(end - at));
        for (Kind& kind : vague_)
            if (const std::size_t length = kind.syntax->length(bytes);
                length > 0 && leads_on(at + length) && (in_step || is_chain(kind, at)))
                return take(kind, at, length);
        if (plain_ != nullptr && in_step) return plain_sound(at);
        return at;
    }

    // Out of step a sample is no longer than those before it by far, and what follows it leads on, too.
    bool is_believable(const Kind& kind, std::uint64_t at, std::size_t length) {
        constexpr std::size_t kEnough = 8;
        if (kind.track->samples.size() >= kEnough && length > 3 * kind.longest) return false;
        const std::uint64_t next = at + length;
        if (next >= window_.end()) return true;
        const auto bytes = window_.from(next);
        for (const auto* kinds : {&telling_, &vague_})
            for (const Kind& other : *kinds)
                if (const std::size_t further = other.syntax->length(bytes); further > 0)
                    return leads_on(next + further);
        return true;
    }

    std::uint64_t take(Kind& kind, std::uint64_t at, std::size_t length) {
        if (has_sector_of_zeros(window_.from(at, length))) {
            // What was found by trial and holds a hole is none.
            if (!in_step_) return at;
            ++result_.places;
            result_.lost += length;
            return at + length;
        }
        FilmSample sample{at, length, kind.track->usual_duration};
        sample.is_sync = !kind.track->is_video() || kind.syntax->is_sync(window_.from(at, length));
        kind.track->samples.push_back(sample);
        kind.longest = std::max(kind.longest, sample.size);
        return sample.end();
    }

    // Whether a sample of some track begins here, or the data ends.
    bool leads_on(std::uint64_t at) {
        if (at == window_.end()) return true;
        const auto bytes = window_.from(at);
        const auto begins = [&](const Kind& kind) {
            return kind.syntax->length(bytes) > 0 || kind.syntax->begins(bytes);
        };
        return plain_ != nullptr || std::any_of(telling_.begin(), telling_.end(), begins) ||
               (unsized_.track != nullptr && begins(unsized_)) || std::any_of(vague_.begin(), vague_.end(), begins) ||
               is_cut_at_end(bytes);
    }

    // What is left of data that ends too early can be the beginning of a sample, and nothing more.
    static bool is_cut_at_end(std::span<const std::uint8_t> bytes) { return bytes.size() < kLongestCut; }

    // Out of step it takes several, one behind the other, to believe what is not telling.
    bool is_chain(const Kind& kind, std::uint64_t at) {
        for (unsigned count = 0; count < 4; ++count) {
            const std::size_t length = kind.syntax->length(window_.from(at));
            if (length == 0) return count > 1 && leads_on(at);
            at += length;
        }
        return true;
    }

    // Plain sound goes on to where the next picture begins: behind as many bytes as stand together in the reference, or
    // else at the first place from which on pictures and sound follow each other.
    std::uint64_t plain_sound(std::uint64_t at) {
        const std::uint32_t frame = plain_->frame_size;
        const auto bytes = window_.from(at, kLongestSound);
        std::size_t length = 0;
        for (std::size_t times = 1; times <= kMostChunks && length == 0; ++times)
            for (const std::uint64_t chunk : plain_->usual_chunks)
                if (length == 0 && chunk * times <= bytes.size() && is_picture(at + chunk * times))
                    length = static_cast<std::size_t>(chunk * times);
        for (std::size_t skip = frame; skip < bytes.size() && length == 0; skip += frame)
            if (is_picture(at + skip) && is_rhythm(at + skip)) length = skip;
        if (length == 0 && bytes.size() < kLongestSound && window_.end() - at == bytes.size())
            length = bytes.size() / frame * frame;
        if (length == 0) return at;
        plain_->samples.push_back({at, length, static_cast<std::uint32_t>(length / frame)});
        return at + length;
    }

    std::size_t picture_length(std::uint64_t at) {
        const auto bytes = window_.from(at);
        for (const Kind& kind : telling_)
            if (const std::size_t length = kind.syntax->length(bytes); length > 0) return length;
        return 0;
    }
    bool is_picture(std::uint64_t at) { return at < window_.end() && picture_length(at) > 0; }

    // Whether behind the picture here another one stands, at once or behind a usual chunk of sound.
    bool is_rhythm(std::uint64_t at) {
        const std::uint64_t behind = at + picture_length(at);
        if (behind >= window_.end() || is_picture(behind)) return true;
        return plain_->usual_chunks.empty() ||
               std::any_of(plain_->usual_chunks.begin(), plain_->usual_chunks.end(), [&](std::uint64_t chunk) {
                   return behind + chunk >= window_.end() || is_picture(behind + chunk);
               });
    }

    // A picture without a length ends where the next one begins, or where a chain of sound leads to that.
    std::uint64_t end_of_unsized(std::uint64_t at) {
        constexpr std::array<std::uint8_t, 2> kStart = {0, 0};
        const auto bytes = window_.from(at);
        const std::size_t first = unsized_.syntax->picture_in(bytes);
        if (first >= bytes.size()) return at;
        auto found = bytes.begin() + static_cast<std::ptrdiff_t>(first) + 3;
        do {
            found = std::search(found + 1, bytes.end(), kStart.begin(), kStart.end());
            if (bytes.end() - found < 4) break;
        } while (!unsized_.syntax->begins(bytes.subspan(static_cast<std::size_t>(found - bytes.begin()))));
        const bool is_last = bytes.end() - found < 4;
        const auto limit = is_last ? bytes.size() : static_cast<std::size_t>(found - bytes.begin());
        const Kind* found_sound = vague_.empty() ? telling_sound() : &vague_.front();
        if (found_sound == nullptr) return at + limit;
        const Kind& sound = *found_sound;
        // How many frames of sound lead from each place to the limit, from the back.
        std::vector<std::uint16_t> frames(limit + 1);
        std::size_t best = limit;
        for (std::size_t place = limit; place-- > 4;) {
            if (!sound.syntax->may_begin(bytes[place])) continue;
            const std::size_t length =
                sound.syntax->length(bytes.subspan(place, std::min<std::size_t>(limit - place, 16 << 10)));
            if (length == 0 || place + length > limit) continue;
            if (place + length != limit && frames[place + length] == 0) continue;
            frames[place] = static_cast<std::uint16_t>(frames[place + length] + 1);
            if (best == limit || frames[place] > frames[best]) best = place;
        }
        return is_last && best == limit ? at : at + best;
    }

    const Kind* telling_sound() const {
        const auto found =
            std::find_if(telling_.begin(), telling_.end(), [](const Kind& kind) { return kind.track->is_sound(); });
        return found == telling_.end() ? nullptr : &*found;
    }

    DataWindow window_;
    std::vector<Kind> telling_, vague_;
    Kind unsized_;
    FilmTrack* plain_ = nullptr;
    bool in_step_ = true;  // with what stands before the place that is looked at
    SampleSearch result_;
};

}  // namespace

SampleSearch find_samples(std::vector<FilmTrack>& tracks, const Medium& content, std::uint64_t from, std::uint64_t to,
                          const std::function<bool()>& should_stop) {
    return Search(tracks, content, to).run(from, should_stop);
}

void set_orders(FilmTrack& track, const Medium& content) {
    const auto syntax = syntax_of(track);
    if (!syntax || !track.is_video() || track.samples.empty()) return;
    DataWindow window(content, content.size());
    syntax->set_order(track.samples, [&](const FilmSample& sample) {
        return window.from(sample.at,
                           static_cast<std::size_t>(std::min<std::uint64_t>(sample.size, DataWindow::kReach)));
    });
}

bool has_sector_of_zeros(std::span<const std::uint8_t> packed) {
    constexpr std::size_t kRun = 256;  // bytes: no codec writes as many
    std::size_t run = 0;
    for (const std::uint8_t byte : packed) {
        run = byte == 0 ? run + 1 : 0;
        if (run == kRun) return true;
    }
    return false;
}

bool is_right_sample(const SampleSyntax& syntax, const FilmSample& sample, DataWindow& window) {
    if (sample.size == 0 || sample.size > DataWindow::kReach || sample.at >= window.end() ||
        sample.size > window.end() - sample.at)
        return false;
    const auto bytes = window.from(sample.at, static_cast<std::size_t>(sample.size));
    if (has_sector_of_zeros(bytes)) return false;
    return syntax.begins(bytes) || syntax.length(bytes) == sample.size;
}

double share_of_right_samples(const FilmTrack& track, const Medium& content) {
    const auto syntax = syntax_of(track);
    if (!syntax || track.samples.empty()) return 1;
    DataWindow window(content, content.size());
    const std::size_t step = std::max<std::size_t>(1, track.samples.size() / kLooked);
    std::size_t right = 0;
    std::size_t all = 0;
    for (std::size_t i = 0; i < track.samples.size(); i += step) {
        if (track.samples[i].at >= content.size()) continue;  // it was cut off
        ++all;
        right += is_right_sample(*syntax, track.samples[i], window) ? 1 : 0;
    }
    return all == 0 ? 1 : static_cast<double>(right) / static_cast<double>(all);
}

}  // namespace dredger::repairing
