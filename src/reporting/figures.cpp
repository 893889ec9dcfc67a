#include "reporting/figures.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <map>

#include "base/amounts.h"

namespace dredger::reporting {
namespace {

constexpr std::uint32_t kInk = 0x2B2A28, kPale = 0x7A756B, kLine = 0xD8D3C8, kGround = 0xF2EFE8;
constexpr std::uint32_t kLive = 0x9DB7C4, kVolume = 0xDCE6EA;
constexpr std::array<std::uint32_t, 4> kBands = {0x2E7D5B, 0xC08A1E, 0xB5532A, 0x9A9489};

void legend(Pen& pen, double x, double y, const std::vector<std::pair<std::uint32_t, std::string>>& entries) {
    for (const auto& [colour, text] : entries) {
        pen.rectangle(x, y - 11, 14, 14, colour);
        pen.text(text, x + 20, y, 13, kInk);
        x += 40 + 7.4 * static_cast<double>(text.size());
    }
}

// What the worst to be said of a cell of the map is: the later, the more it covers what came before.
enum class Cell : std::uint8_t { outside, volume, live, gone, faint, patchy, sound };

std::uint32_t colour_of(Cell cell) {
    switch (cell) {
        case Cell::outside: return kGround;
        case Cell::volume: return kVolume;
        case Cell::live: return kLive;
        case Cell::gone: return kBands[3];
        case Cell::faint: return kBands[2];
        case Cell::patchy: return kBands[1];
        case Cell::sound: break;
    }
    return kBands[0];
}

Cell cell_of(State state, Band band) {
    if (state == State::live) return Cell::live;
    constexpr std::array kCells = {Cell::sound, Cell::patchy, Cell::faint, Cell::gone};
    return kCells[static_cast<std::size_t>(band) % kCells.size()];
}

}  // namespace

Result<Figure> medium_map(const Catalog& catalog, const ScannedSource& source) {
    constexpr std::size_t kAcross = 128, kDown = 40;
    constexpr double kSide = 9, kLeft = 40, kTop = 56;
    const std::uint64_t size = std::max<std::uint64_t>(source.identity.size, 1);
    std::vector<Cell> cells(kAcross * kDown, Cell::outside);
    const auto mark = [&](std::uint64_t offset, std::uint64_t length, Cell cell) {
        if (length == 0 || offset >= size) return;
        const auto place = [&](std::uint64_t at) {
            return std::min(cells.size() - 1,
                            static_cast<std::size_t>(static_cast<double>(at) / static_cast<double>(size) *
                                                     static_cast<double>(cells.size())));
        };
        for (std::size_t i = place(offset); i <= place(offset + length - 1); ++i) cells[i] = std::max(cells[i], cell);
    };
    DREDGER_TRY(const auto volumes, catalog.volumes());
    std::set<std::int64_t> here;
    for (const ScannedVolume& volume : volumes) {
        if (volume.source != source.id) continue;
        here.insert(volume.id);
        if (volume.place.number != 0) mark(volume.place.offset, volume.place.length, Cell::volume);
    }
    DREDGER_CHECK(catalog.each_extent([&](std::int64_t volume, State state, Band band, const Extent& extent) {
        if (here.contains(volume)) mark(extent.offset, extent.length, cell_of(state, band));
    }));
    Figure figure{"map",
                  fmt::format("The medium, {} from its start (top left) to its end", size_text(size)),
                  static_cast<int>(2 * kLeft + kSide * kAcross),
                  static_cast<int>(kTop + kSide * kDown + 48),
                  {}};
    figure.draw = [cells = std::move(cells), title = figure.title](Pen& pen) {
        pen.text(title, kLeft, 32, 16, kInk, Pen::Anchor::start, true);
        for (std::size_t i = 0; i < cells.size(); ++i)
            pen.rectangle(kLeft + kSide * static_cast<double>(i % kAcross),
                          kTop + kSide * static_cast<double>(i / kAcross), kSide - 1, kSide - 1, colour_of(cells[i]));
        legend(pen, kLeft, kTop + kSide * kDown + 30,
               {{kGround, "outside the volumes"},
                {kVolume, "in a volume, nothing known"},
                {kLive, "live files"},
                {kBands[0], "sound finds"},
                {kBands[1], "patchy"},
                {kBands[2], "faint"},
                {kBands[3], "gone"}});
    };
    return figure;
}

Result<Figure> kinds_figure(const Catalog& catalog, const Selection& selection) {
    std::vector<std::pair<std::string, Totals>> kinds;
    DREDGER_CHECK(catalog.each_group(selection, Grouping::kind, [&](const GroupTree::Path& path, const Totals& totals) {
        if (totals.files > 0) kinds.emplace_back(path.front(), totals);
    }));
    std::stable_sort(kinds.begin(), kinds.end(),
                     [](const auto& a, const auto& b) { return a.second.files > b.second.files; });
    constexpr double kLeft = 130, kTop = 56, kRow = 34, kWidth = 780;
    Figure figure{"kinds",
                  "Finds by kind and band",
                  1000,
                  static_cast<int>(kTop + kRow * static_cast<double>(std::max<std::size_t>(1, kinds.size())) + 48),
                  {}};
    figure.draw = [kinds = std::move(kinds), title = figure.title](Pen& pen) {
        pen.text(title, 24, 32, 16, kInk, Pen::Anchor::start, true);
        const double most = kinds.empty() ? 1 : static_cast<double>(kinds.front().second.files);
        double y = kTop;
        for (const auto& [kind, totals] : kinds) {
            pen.text(kind, kLeft - 12, y + 18, 14, kInk, Pen::Anchor::end);
            double x = kLeft;
            for (std::size_t band = 0; band < kBands.size(); ++band) {
                const double width = kWidth * static_cast<double>(totals.bands[band]) / most;
                pen.rectangle(x, y, width, 24, kBands[band]);
                x += width;
            }
            pen.text(std::to_string(totals.files), x + 8, y + 17, 13, kPale);
            y += kRow;
        }
        legend(pen, kLeft, y + 22,
               {{kBands[0], "sound"}, {kBands[1], "patchy"}, {kBands[2], "faint"}, {kBands[3], "gone"}});
    };
    return figure;
}

Result<Figure> deletions_figure(const Catalog& catalog, const Selection& selection) {
    std::map<std::string, std::array<std::uint64_t, 2>> months;  // deleted then; changed last then
    DREDGER_CHECK(catalog.each(selection, {}, false, [&](const Candidate& c) {
        const auto& time = c.record.deleted ? c.record.deleted : c.record.modified;
        if (time && !c.record.is_folder) ++months[iso8601(*time).substr(0, 7)][c.record.deleted ? 0 : 1];
        return true;
    }));
    // The last three years of it: older ones are a tail that would squeeze them.
    constexpr std::size_t kMax = 36;
    while (months.size() > kMax) months.erase(months.begin());
    constexpr double kLeft = 60, kTop = 56, kHeight = 220, kWidth = 900;
    Figure figure{"deletions", "When finds were deleted, or last changed where that is not recorded", 1000, 360, {}};
    figure.draw = [months = std::move(months), title = figure.title](Pen& pen) {
        pen.text(title, 24, 32, 16, kInk, Pen::Anchor::start, true);
        std::uint64_t most = 1;
        for (const auto& [month, counts] : months) most = std::max(most, counts[0] + counts[1]);
        pen.line(kLeft, kTop + kHeight, kLeft + kWidth, kTop + kHeight, kLine);
        pen.text(std::to_string(most), kLeft - 8, kTop + 12, 12, kPale, Pen::Anchor::end);
        const double step = std::min(60.0, kWidth / static_cast<double>(std::max<std::size_t>(1, months.size())));
        double x = kLeft;
        std::size_t index = 0;
        for (const auto& [month, counts] : months) {
            const auto tall = [&](std::uint64_t count) {
                return kHeight * static_cast<double>(count) / static_cast<double>(most);
            };
            pen.rectangle(x + 2, kTop + kHeight - tall(counts[0]), step - 4, tall(counts[0]), 0x1F6F8B);
            pen.rectangle(x + 2, kTop + kHeight - tall(counts[0] + counts[1]), step - 4, tall(counts[1]), kLive);
            if (index++ % (step < 50 ? 3 : 1) == 0) pen.text(month, x + 2, kTop + kHeight + 18, 11, kPale);
            x += step;
        }
        legend(pen, kLeft, kTop + kHeight + 48, {{0x1F6F8B, "deleted then"}, {kLive, "changed last then"}});
    };
    return figure;
}

}  // namespace dredger::reporting
