#include "repairing/picture/jpeg_picture.h"

#include <cmath>
#include <numbers>

namespace dredger::repairing {

const std::array<std::uint8_t, 64> kZigzag = {0,  1,  8,  16, 9,  2,  3,  10, 17, 24, 32, 25, 18, 11, 4,  5,
                                              12, 19, 26, 33, 40, 48, 41, 34, 27, 20, 13, 6,  7,  14, 21, 28,
                                              35, 42, 49, 56, 57, 50, 43, 36, 29, 22, 15, 23, 30, 37, 44, 51,
                                              58, 59, 52, 45, 38, 31, 39, 46, 53, 60, 61, 54, 47, 55, 62, 63};

namespace {

// The inverse cosine transform of eight values (T.81, A.3.3): what frequency `u` gives at place `x`.
const std::array<std::array<float, 8>, 8>& waves() {
    static const auto table = [] {
        std::array<std::array<float, 8>, 8> made{};
        for (std::size_t x = 0; x < 8; ++x)
            for (std::size_t u = 0; u < 8; ++u)
                made[x][u] = static_cast<float>((u == 0 ? std::sqrt(0.125) : 0.5) *
                                                std::cos(static_cast<double>((2 * x + 1) * u) * std::numbers::pi / 16));
        return made;
    }();
    return table;
}

}  // namespace

JpegPicture::JpegPicture(const JpegHeader& header)
    : mcus_across_(header.frame->mcus_across()),
      mcu_height_(header.frame->components.size() == 1 ? 8 : 8 * header.frame->most_down()) {
    const JpegFrame& frame = *header.frame;
    const std::size_t down = frame.mcus_down();
    const bool is_single = frame.components.size() == 1;
    for (const JpegFrame::Component& from : frame.components) {
        Component component;
        component.across = is_single ? 1 : from.across;
        component.down = is_single ? 1 : from.down;
        component.blocks_across = mcus_across_ * component.across;
        component.blocks_down = down * component.down;
        const auto& table = header.quantization[from.quantization];
        for (std::size_t k = 0; k < 64; ++k) component.step[kZigzag[k]] = table ? static_cast<float>((*table)[k]) : 1;
        component.blocks.resize(component.blocks_across * component.blocks_down);
        blocks_in_mcu_ += std::size_t{component.across} * component.down;
        components_.push_back(std::move(component));
    }
    is_known_.resize(mcus_across_ * down);
}

void JpegPicture::set(std::size_t mcu, std::span<const JpegBlock> blocks) {
    std::size_t next = 0;
    for (Component& component : components_)
        for (unsigned v = 0; v < component.down; ++v)
            for (unsigned h = 0; h < component.across; ++h) {
                const std::size_t row = mcu / mcus_across_ * component.down + v;
                const std::size_t column = mcu % mcus_across_ * component.across + h;
                component.blocks[row * component.blocks_across + column] = blocks[next++];
            }
    is_known_[mcu] = true;
}

float JpegPicture::mean_of(std::size_t mcu, std::size_t number) const {
    const Component& component = components_[number];
    float sum = 0;
    for (unsigned v = 0; v < component.down; ++v)
        for (unsigned h = 0; h < component.across; ++h) {
            const std::size_t row = mcu / mcus_across_ * component.down + v;
            const std::size_t column = mcu % mcus_across_ * component.across + h;
            sum += component.blocks[row * component.blocks_across + column][0];
        }
    return sum * component.step[0] / 8 / static_cast<float>(component.across * component.down);
}

void JpegPicture::add_to_dc(std::size_t mcu, std::size_t number, int steps) {
    Component& component = components_[number];
    for (unsigned v = 0; v < component.down; ++v)
        for (unsigned h = 0; h < component.across; ++h) {
            const std::size_t row = mcu / mcus_across_ * component.down + v;
            const std::size_t column = mcu % mcus_across_ * component.across + h;
            std::int16_t& dc = component.blocks[row * component.blocks_across + column][0];
            dc = static_cast<std::int16_t>(std::clamp(dc + steps, -2047, 2047));
        }
}

JpegPicture::Edge JpegPicture::edge(const Component& component, std::size_t column, std::size_t row, Side side) const {
    const JpegBlock& block = component.blocks[row * component.blocks_across + column];
    const auto& wave = waves();
    const std::size_t place = side == Side::top || side == Side::left ? 0
                              : side == Side::second                  ? 1
                              : side == Side::next_to_last            ? 6
                                                                      : 7;
    const bool is_row = side != Side::left && side != Side::right;
    Edge frequencies{};
    for (std::size_t v = 0; v < 8; ++v)
        for (std::size_t u = 0; u < 8; ++u) {
            const std::size_t k = 8 * v + u;
            if (block[k] == 0) continue;
            const float value = static_cast<float>(block[k]) * component.step[k];
            if (is_row)
                frequencies[u] += value * wave[place][v];
            else
                frequencies[v] += value * wave[place][u];
        }
    Edge pixels{};
    for (std::size_t x = 0; x < 8; ++x)
        for (std::size_t u = 0; u < 8; ++u) pixels[x] += frequencies[u] * wave[x][u];
    return pixels;
}

namespace {

template <class Edge>
void compare(const Edge& here, const Edge& there, JpegPicture::Fit& fit) {
    for (std::size_t i = 0; i < here.size(); ++i) {
        fit.apart += std::abs(here[i] - there[i]);
        fit.offset += here[i] - there[i];
        ++fit.pixels;
    }
}

JpegPicture::Fit averaged(JpegPicture::Fit fit) {
    if (fit.pixels == 0) return fit;
    fit.apart /= static_cast<float>(fit.pixels);
    fit.offset /= static_cast<float>(fit.pixels);
    return fit;
}

}  // namespace

JpegPicture::Fit JpegPicture::fit_above(std::size_t mcu, std::size_t number) const {
    Fit fit;
    if (mcu < mcus_across_ || !is_known_[mcu - mcus_across_]) return fit;
    const Component& component = components_[number];
    const std::size_t row = mcu / mcus_across_ * component.down;
    for (unsigned h = 0; h < component.across; ++h) {
        const std::size_t column = mcu % mcus_across_ * component.across + h;
        compare(edge(component, column, row, Side::top), edge(component, column, row - 1, Side::bottom), fit);
    }
    return averaged(fit);
}

JpegPicture::Fit JpegPicture::fit_left(std::size_t mcu, std::size_t number) const {
    Fit fit;
    if (mcu % mcus_across_ == 0 || !is_known_[mcu - 1]) return fit;
    const Component& component = components_[number];
    const std::size_t column = mcu % mcus_across_ * component.across;
    for (unsigned v = 0; v < component.down; ++v) {
        const std::size_t row = mcu / mcus_across_ * component.down + v;
        compare(edge(component, column, row, Side::left), edge(component, column - 1, row, Side::right), fit);
    }
    return averaged(fit);
}

std::vector<JpegPicture::Step> JpegPicture::steps_from_above(std::size_t mcu, std::size_t number) const {
    std::size_t above = mcu;
    do {
        if (above < mcus_across_) return {};
        above -= mcus_across_;
    } while (!is_known_[above]);
    const bool is_neighbour = mcu - above == mcus_across_;
    const Component& component = components_[number];
    const std::size_t row = mcu / mcus_across_ * component.down;
    const std::size_t last = (above / mcus_across_ + 1) * component.down - 1;
    std::vector<Step> steps;
    for (unsigned h = 0; h < component.across; ++h) {
        const std::size_t column = mcu % mcus_across_ * component.across + h;
        const Edge top = edge(component, column, row, Side::top);
        const Edge second = edge(component, column, row, Side::second);
        const Edge bottom = edge(component, column, last, Side::bottom);
        const Edge before = edge(component, column, last, Side::next_to_last);
        for (std::size_t i = 0; i < top.size(); ++i) {
            const float here = top[i] - second[i];
            const float there = before[i] - bottom[i];
            steps.push_back(
                {top[i] - bottom[i] + (is_neighbour ? (here + there) / 2 : 0), std::abs(here) + std::abs(there)});
        }
    }
    return steps;
}

std::size_t JpegPicture::known_rows(unsigned height) const {
    std::size_t rows = 0;
    for (std::size_t first = 0; first < is_known_.size(); first += mcus_across_) {
        const std::size_t top = first / mcus_across_ * mcu_height_;
        if (std::all_of(is_known_.begin() + static_cast<std::ptrdiff_t>(first),
                        is_known_.begin() + static_cast<std::ptrdiff_t>(first + mcus_across_),
                        [](bool k) { return k; }))
            rows += std::min<std::size_t>(mcu_height_, height - std::min<std::size_t>(top, height));
    }
    return rows;
}

}  // namespace dredger::repairing
