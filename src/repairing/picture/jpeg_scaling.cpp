#include "repairing/picture/jpeg_scaling.h"

#include <algorithm>
#include <cmath>

namespace dredger::repairing {
namespace {

constexpr float kUsual = 0.5F;  // a quality of 75
constexpr float kFinest = 0.02F, kCoarsest = 4;
constexpr float kWidest = 112;  // levels that blocks of usual photos are brighter or darker than the middle
constexpr std::size_t kMostMcus = 200'000;
constexpr std::size_t kFewest = 16;  // blocks that tell something

// Means of the brightness of blocks, row by row; with tables of ones, by which they have to be multiplied.
struct Brightness {
    std::size_t across = 0;
    std::vector<float> means;  // of known blocks, in levels; NaN of others
};

Brightness brightness_of(const JpegHeader& header, const JpegScanData& data) {
    JpegPicture picture(header);
    const McuDecoder decoder(header, data.bytes);
    const std::size_t blocks = decoder.blocks_in_mcu();
    if (blocks == 0) return {};
    const std::size_t most = std::min(picture.mcus(), kMostMcus);
    std::size_t from = 0, mcu = 0;
    std::vector<bool> is_known(picture.mcus());
    for (std::size_t i = 0; i <= data.marks.size() && mcu < most; ++i) {
        const std::size_t to = i < data.marks.size() ? data.marks[i].at : data.bytes.size();
        const McuDecoder::Run run = decoder.decode({from * 8, 0}, to * 8, most - mcu);
        for (std::size_t k = 0; k < run.mcus(); ++k, ++mcu)
            picture.set(mcu, std::span(run.blocks).subspan(k * blocks, blocks));
        if (run.broke) break;
        from = to;
    }
    const JpegPicture::Component& luma = picture.components()[0];
    Brightness result{luma.blocks_across, std::vector<float>(luma.blocks.size(), NAN)};
    for (std::size_t block = 0; block < luma.blocks.size(); ++block) {
        const std::size_t column = block % luma.blocks_across / luma.across;
        const std::size_t row = block / luma.blocks_across / luma.down;
        if (row * picture.mcus_across() + column < mcu) result.means[block] = luma.blocks[block][0] * luma.step[0] / 8;
    }
    return result;
}

std::vector<float> known_of(const std::vector<float>& means) {
    std::vector<float> known;
    std::copy_if(means.begin(), means.end(), std::back_inserter(known), [](float mean) { return !std::isnan(mean); });
    return known;
}

float spread_of(const std::vector<float>& values) {
    if (values.size() < kFewest) return 0;
    double sum = 0, squares = 0;
    for (const float value : values) sum += value, squares += value * value;
    const double mean = sum / static_cast<double>(values.size());
    return static_cast<float>(std::sqrt(std::max(0.0, squares / static_cast<double>(values.size()) - mean * mean)));
}

// The same, in as many cells as another one has: what each of them covers, taken together.
std::vector<float> in_cells(const Brightness& fine, const Brightness& coarse) {
    const std::size_t down = coarse.means.size() / coarse.across, fine_down = fine.means.size() / fine.across;
    std::vector<float> sums(coarse.means.size()), counts(coarse.means.size());
    for (std::size_t block = 0; block < fine.means.size(); ++block) {
        if (std::isnan(fine.means[block])) continue;
        const std::size_t cell =
            block / fine.across * down / fine_down * coarse.across + block % fine.across * coarse.across / fine.across;
        sums[cell] += fine.means[block];
        counts[cell] += 1;
    }
    for (std::size_t cell = 0; cell < sums.size(); ++cell)
        sums[cell] = counts[cell] > 0 && !std::isnan(coarse.means[cell]) ? sums[cell] / counts[cell] : NAN;
    return known_of(sums);
}

Brightness thumbnail_of(Reader& content, const JpegHeader& header) {
    if (!header.thumbnail) return {};
    Reader there = content.within(header.thumbnail->offset);
    const JpegHeader small = read_jpeg_header(there);
    if (!small.has_tables() || small.data_at == 0 || small.frame->is_progressive() || small.frame->height == 0)
        return {};
    return brightness_of(small, read_scan_data(there, small, {}));
}

}  // namespace

float quantization_scale(Reader& content, const JpegHeader& header, const JpegScanData& data) {
    JpegHeader usual;
    add_usual_quantization(usual, 1);
    for (std::size_t i = 0; i < 2; ++i) {
        if (!header.quantization[i]) continue;
        float ratios = 0;
        for (std::size_t k = 0; k < 64; ++k)
            ratios +=
                static_cast<float>((*header.quantization[i])[k]) / static_cast<float>((*usual.quantization[i])[k]);
        return std::clamp(ratios / 64, kFinest, kCoarsest);
    }
    JpegHeader ones = header;
    for (auto& table : ones.quantization) table.emplace().fill(1);
    const Brightness picture = brightness_of(ones, data);
    const float step = (*usual.quantization[0])[0];
    if (const Brightness thumbnail = thumbnail_of(content, header); !thumbnail.means.empty()) {
        const float here = spread_of(in_cells(picture, thumbnail)), there = spread_of(known_of(thumbnail.means));
        if (here > 0 && there > 0) return std::clamp(there / (here * step), kFinest, kCoarsest);
    }
    std::vector<float> known = known_of(picture.means);
    if (known.size() < kFewest) return kUsual;
    std::sort(known.begin(), known.end());
    const std::size_t odd = known.size() / 200;
    const float widest = std::max(std::abs(known[odd]), std::abs(known[known.size() - 1 - odd]));
    return widest > 0 ? std::clamp(kWidest / (widest * step), kFinest, kCoarsest) : kUsual;
}

}  // namespace dredger::repairing
