#include "repairing/picture/jpeg_candidates.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>

#include "repairing/picture/jpeg_scaling.h"

namespace dredger::repairing {
namespace {

constexpr std::size_t kProvingMcus = 150;  // that decode and show that tables are right
constexpr std::size_t kMostMcus = 4 << 20;
constexpr float kClearly = 1.05F;

// MCUs that decode from the start of the data on.
std::size_t mcus_of(const JpegHeader& header, const JpegScanData& data, std::size_t most, bool& is_exact) {
    const McuDecoder decoder(header, data.bytes);
    if (decoder.blocks_in_mcu() == 0) return 0;
    std::size_t count = 0;
    std::size_t from = 0;
    is_exact = false;
    for (std::size_t i = 0; i <= data.marks.size() && count < most; ++i) {
        const std::size_t to = i < data.marks.size() ? data.marks[i].at : data.bytes.size();
        const McuDecoder::Run run = decoder.decode({from * 8, 0}, to * 8, most - count);
        count += run.mcus();
        if (run.broke) return count;
        from = to;
    }
    is_exact = from == data.bytes.size();
    return count;
}

// MCUs between restart markers, where the markers' numbers follow each other and what is between them decodes; else 0.
unsigned interval_of(const JpegHeader& header, const JpegScanData& data) {
    constexpr std::size_t kAgreeing = 4;
    constexpr std::size_t kMostInInterval = 65535;
    const McuDecoder decoder(header, data.bytes);
    if (decoder.blocks_in_mcu() == 0) return 0;
    std::map<std::size_t, std::size_t> counts;
    for (std::size_t i = 1; i < data.marks.size(); ++i) {
        if (data.marks[i].number != (data.marks[i - 1].number + 1) % 8) continue;
        const McuDecoder::Run run =
            decoder.decode({data.marks[i - 1].at * 8, 0}, data.marks[i].at * 8, kMostInInterval);
        if (!run.broke && ++counts[run.mcus()] == kAgreeing) return static_cast<unsigned>(run.mcus());
    }
    return 0;
}

// MCUs in those intervals between markers that decode to all that they should hold.
std::size_t mcus_in_intervals(const McuDecoder& decoder, const JpegScanData& data, std::size_t interval) {
    std::size_t count = 0;
    for (std::size_t i = 1; i < data.marks.size(); ++i) {
        const McuDecoder::Run run = decoder.decode({data.marks[i - 1].at * 8, 0}, data.marks[i].at * 8, interval);
        if (!run.broke && run.mcus() == interval) count += interval;
    }
    return count;
}

// How far MCUs are from those above them when a run of them is the last of the picture; levels.
std::vector<float> misfits_at_end(const JpegHeader& header, const McuDecoder::Run& run) {
    JpegPicture picture(header);
    const std::size_t count = std::min(run.mcus(), picture.mcus());
    const std::size_t first = picture.mcus() - count;
    const std::size_t blocks = count == 0 ? 0 : run.blocks.size() / run.mcus();
    for (std::size_t i = 0; i < count; ++i)
        picture.set(first + i, std::span(run.blocks).subspan((run.mcus() - count + i) * blocks, blocks));
    std::vector<float> misfits;
    for (std::size_t i = first + picture.mcus_across(); i < picture.mcus(); ++i)
        misfits.push_back(picture.fit_above(i, 0).apart);
    return misfits;
}

float mean_of(std::span<const float> values) {
    float sum = 0;
    for (const float value : values) sum += value;
    return values.empty() ? 0 : sum / static_cast<float>(values.size());
}

// Whether the rows of a run do not go on each other somewhere: there MCUs are missing.
bool has_ridge(std::span<const float> misfits, std::size_t across) {
    if (misfits.size() < 2 * across) return false;
    const float usual = mean_of(misfits);
    for (std::size_t i = 0; i + across <= misfits.size(); ++i)
        if (mean_of(misfits.subspan(i, across)) > 2.5F * usual + 2) return true;
    return false;
}

JpegScan usual_scan(const JpegFrame& frame) {
    JpegScan scan;
    for (std::size_t i = 0; i < frame.components.size(); ++i)
        scan.components.push_back({frame.components[i].id, i == 0 ? 0U : 1U, i == 0 ? 0U : 1U});
    return scan;
}

// The pictures that cameras make: brightness at full size, colours at full size, half or a quarter.
std::vector<JpegFrame> usual_frames() {
    std::vector<JpegFrame> frames;
    for (const auto& [across, down] : {std::pair{2U, 2U}, {2U, 1U}, {1U, 1U}, {1U, 2U}}) {
        JpegFrame frame;
        frame.components = {{1, across, down, 0}, {2, 1, 1, 1}, {3, 1, 1, 1}};
        frames.push_back(frame);
    }
    frames.emplace_back().components = {{1, 1, 1, 0}};
    return frames;
}

// The width at which rows go on each other, of those at which `mcus` fill a rectangle.
void find_size(JpegHeader& header, const JpegScanData& data, std::size_t mcus) {
    JpegFrame& frame = *header.frame;
    const unsigned mcu_width = frame.components.size() == 1 ? 8 : 8 * frame.most_across();
    const unsigned mcu_height = frame.components.size() == 1 ? 8 : 8 * frame.most_down();
    const McuDecoder::Run run = McuDecoder(header, data.bytes).decode({0, 0}, data.bytes.size() * 8, mcus);
    const auto misfit_at = [&](std::size_t across) {
        frame.width = static_cast<unsigned>(across) * mcu_width;
        frame.height = static_cast<unsigned>(mcus / across) * mcu_height;
        return mean_of(misfits_at_end(header, run));
    };
    float least = 1e9F;
    std::size_t best = 0;
    for (std::size_t across = 1; across <= mcus; ++across) {
        const std::size_t down = mcus / across;
        if (mcus % across != 0 || across > 4 * down || down > 4 * across || down < 2) continue;
        const float misfit = misfit_at(across);
        if (misfit >= least) continue;
        least = misfit;
        best = across;
    }
    // Where it is the right one, rows that are a little longer or shorter go on each other worse.
    for (const std::size_t beside : {best - 2, best - 1, best + 1, best + 2})
        if (best > 3 && misfit_at(beside) <= kClearly * least) best = 0;
    frame.width = static_cast<unsigned>(best) * mcu_width;
    frame.height = best == 0 ? 0 : static_cast<unsigned>(mcus / best) * mcu_height;
}

class Completing {
  public:
    Completing(Reader& content, const JpegHeader& header, Workbench& bench)
        : content_(content), found_(header), should_stop_([&bench] { return bench.should_stop(); }) {
        for (const Reference& reference : bench.references()) {
            Budget budget = bench.budget();
            Reader reader(*reference.content, budget);
            JpegHeader theirs = read_jpeg_header(reader);
            if (theirs.data_at != 0 && theirs.has_tables() && !theirs.frame->is_progressive())
                references_.push_back({std::move(theirs), reference.name});
        }
    }

    std::optional<JpegGuess> run() {
        if (!find_data()) return std::nullopt;
        for (const auto& reference : references_) {
            if (should_stop_() || (best_ && best_->is_exact)) break;
            try_reference(reference.first, reference.second);
        }
        if (!best_) try_usual();
        return std::move(best_);
    }

  private:
    // Where the picture data begins when no scan header tells.
    bool find_data() {
        if (found_.data_at != 0) return true;
        std::uint64_t at = found_.end;
        while (content_.holds(at, 1) && content_.u8(at) == 0) {
            // Long stretches of zeros are passed a window at a time.
            const auto here = content_.some(at);
            if (here.empty()) return false;
            const auto first = std::find_if(here.begin(), here.end(), [](std::byte b) { return b != std::byte{0}; });
            at += static_cast<std::uint64_t>(first - here.begin());
        }
        found_.data_at = at;
        return content_.holds(at, 64);
    }

    const JpegScanData& data_for(JpegHeader header) {
        std::optional<JpegScanData>& data = header.restart_interval != 0 ? with_restarts_ : without_;
        header.data_at = found_.data_at;
        if (!data) data = read_scan_data(content_, header, {});
        return *data;
    }

    void try_reference(const JpegHeader& theirs, const std::string& name) {
        JpegGuess guess{found_, {}};
        bool is_used = false;
        const auto take = [&](auto& ours, const auto& other, std::string_view what) {
            if (ours || !other) return;
            ours = other;
            is_used = true;
            guess.what.push_back(fmt::format("{} taken from {}", what, name));
        };
        take(guess.header.frame, theirs.frame, "its size and sampling were");
        for (std::size_t i = 0; i < 4; ++i) {
            take(guess.header.quantization[i], theirs.quantization[i], "a quantisation table was");
            take(guess.header.dc[i], theirs.dc[i], "a code table was");
            take(guess.header.ac[i], theirs.ac[i], "a code table was");
        }
        take(guess.header.scan, theirs.scan, "its scan header was");
        if (found_.scan_at == 0 && found_.restart_interval == 0)
            guess.header.restart_interval = theirs.restart_interval;
        if (is_used) consider(std::move(guess));
    }

    void try_usual() {
        JpegGuess guess{found_, {}};
        JpegHeader& header = guess.header;
        const bool has_quantization = std::any_of(header.quantization.begin(), header.quantization.end(),
                                                  [](const auto& table) { return table.has_value(); });
        const bool has_codes =
            std::any_of(header.ac.begin(), header.ac.end(), [](const auto& t) { return t.has_value(); });
        add_usual_huffman_tables(header);
        if (!has_codes) guess.what.emplace_back("its code tables are lost: the usual ones decode it");
        guess.is_tinted = !has_quantization;
        if (!has_quantization)
            guess.what.emplace_back(found_.thumbnail ? "its quantisation is lost: contrast is that of its thumbnail, "
                                                       "sharpness is guessed"
                                                     : "its quantisation is lost: contrast and sharpness are guessed");
        if (header.frame) {
            if (!header.scan) header.scan = usual_scan(*header.frame);
            add_quantization(header);
            consider(std::move(guess));
            return;
        }
        for (const JpegFrame& frame : usual_frames()) {
            JpegGuess sized = guess;
            sized.header.frame = frame;
            sized.header.scan = usual_scan(frame);
            // Decoding doubts numbers that are too large for a table: with the finest none is.
            add_usual_quantization(sized.header, 0);
            if (!sized.header.has_tables()) continue;
            const JpegScanData& data = data_for(sized.header);
            bool is_exact = false;
            const std::size_t mcus = mcus_of(sized.header, data, kMostMcus, is_exact);
            if (!is_exact || mcus < kProvingMcus) continue;
            find_size(sized.header, data, mcus);
            if (sized.header.frame->width == 0) continue;
            sized.header.quantization = header.quantization;
            add_quantization(sized.header);
            sized.what.emplace_back("its size is lost: it is the one at which its rows go on each other");
            consider(std::move(sized));
        }
    }

    void add_quantization(JpegHeader& header) {
        JpegHeader complete = header;
        add_usual_quantization(complete, 1);
        if (!complete.has_tables() || header.has_tables()) return;
        add_usual_quantization(header, quantization_scale(content_, header, data_for(header)));
    }

    // What decodes furthest wins; of those that do alike the one whose rows go on each other best, or the first.
    void consider(JpegGuess guess) {
        if (!guess.header.has_tables() || !guess.header.frame) return;
        const JpegFrame& frame = *guess.header.frame;
        if (frame.height == 0) return;
        guess.header.data_at = found_.data_at;
        if (found_.scan_at == 0 && found_.restart_interval == 0) {
            JpegHeader with_restarts = guess.header;
            with_restarts.restart_interval = 1;
            const unsigned interval = interval_of(guess.header, data_for(with_restarts));
            if (interval != 0) guess.header.restart_interval = interval;
        }
        const std::size_t mcus = frame.mcus_across() * frame.mcus_down();
        bool ended = false;
        const std::size_t decoded = mcus_of(guess.header, data_for(guess.header), mcus + 1, ended);
        guess.is_exact = ended && decoded == mcus;
        const bool goes = guess.is_exact || (decoded >= kProvingMcus && decoded <= mcus) || decoded * 2 > mcus;
        if (goes && found_.scan_at == 0 && ended && decoded < mcus && guess.header.restart_interval == 0) {
            const JpegScanData& data = data_for(guess.header);
            const McuDecoder decoder(guess.header, data.bytes);
            const McuDecoder::Run run = decoder.decode({0, 0}, data.bytes.size() * 8, mcus);
            guess.starts_late = !has_ridge(misfits_at_end(guess.header, run), frame.mcus_across());
        }
        if (goes)
            take(std::move(guess), {decoded + (guess.is_exact ? kMostMcus : 0), 0});
        else if (!found_.frame)
            consider_end(std::move(guess), mcus);
    }

    // The start of the data may be lost as well: what decodes from somewhere on is the end of the picture.
    void consider_end(JpegGuess guess, std::size_t mcus) {
        guess.starts_late = true;
        const JpegScanData& data = data_for(guess.header);
        const McuDecoder decoder(guess.header, data.bytes);
        if (decoder.blocks_in_mcu() == 0) return;
        if (guess.header.restart_interval != 0) {
            const std::size_t decoded = mcus_in_intervals(decoder, data, guess.header.restart_interval);
            if (decoded >= kProvingMcus && decoded <= mcus) take(std::move(guess), {decoded, 0});
            return;
        }
        const std::size_t end = data.bytes.size() * 8;
        const auto place = sense_in(decoder, end);
        if (!place) return;
        const McuDecoder::Run run = decoder.decode(*place, end, mcus + 1, false);
        if (run.mcus() < kProvingMcus || run.mcus() > mcus) return;
        const float misfit = mean_of(misfits_at_end(guess.header, run));
        take(std::move(guess), {run.mcus(), misfit});
    }

    // Decoding comes in step within a few MCUs where it can at all: looks at a few places, the first ones first.
    std::optional<McuDecoder::Place> sense_in(const McuDecoder& decoder, std::size_t end) const {
        constexpr std::size_t kPlaces = 16;
        constexpr std::size_t kReach = 8192;    // bits that are tried at each
        constexpr std::size_t kRoom = 1 << 20;  // bits for kProvingMcus
        for (std::size_t i = 0; i < kPlaces; ++i) {
            const std::size_t from = end / kPlaces * i;
            const auto place =
                decoder.find_sense(from, std::min(end, from + kRoom), kProvingMcus, should_stop_, kReach);
            if (place) return place;
        }
        return std::nullopt;
    }

    struct Score {
        std::size_t decoded = 0;  // MCUs
        float misfit = 0;         // levels
        bool is_better_than(const Score& other) const {
            return decoded > other.decoded || (decoded == other.decoded && misfit < other.misfit);
        }
    };
    void take(JpegGuess guess, Score score) {
        if (best_ ? !score.is_better_than(best_score_) : score.decoded == 0) return;
        std::sort(guess.what.begin(), guess.what.end());
        guess.what.erase(std::unique(guess.what.begin(), guess.what.end()), guess.what.end());
        best_score_ = score;
        best_ = std::move(guess);
    }

    Reader& content_;
    JpegHeader found_;
    std::vector<std::pair<JpegHeader, std::string>> references_;
    std::optional<JpegScanData> with_restarts_, without_;
    std::optional<JpegGuess> best_;
    Score best_score_;
    std::function<bool()> should_stop_;
};

}  // namespace

std::optional<JpegGuess> complete_jpeg_header(Reader& content, const JpegHeader& header, Workbench& bench) {
    if (header.has_tables() && header.data_at != 0 && header.frame->height != 0) return JpegGuess{header, {}, true};
    return Completing(content, header, bench).run();
}

}  // namespace dredger::repairing
