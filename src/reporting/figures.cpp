#include "reporting/figures.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <map>

#include "base/amounts.h"
#include "base/palette.h"

namespace dredger::reporting {
namespace {

constexpr std::uint32_t kInk = 0x2B2A28, kPale = 0x7A756B, kLine = 0xD8D3C8, kGround = 0xF2EFE8;
constexpr std::uint32_t kLive = palette::kLive.rgb, kVolume = 0xDCE6EA, kDeletedThen = 0x1F6F8B;

std::uint32_t colour_of(Band band) { return palette::kBands[static_cast<std::size_t>(band)].rgb; }

void legend(Pen& pen, double x, double y, const std::vector<std::pair<std::uint32_t, std::string>>& entries) {
    for (const auto& [colour, text] : entries) {
        pen.rectangle(x, y - 11, 14, 14, colour);
        pen.text(text, x + 20, y, 13, kInk);
        x += 40 + 7.4 * static_cast<double>(text.size());
    }
}

// What the worst to be said of a cell of the map is: the later, the more it covers what came before.
enum class Cell : std::uint8_t { outside, volume, live, gone, faint, patchy, sound, unreadable };

std::uint32_t colour_of(Cell cell) {
    switch (cell) {
        case Cell::outside: return kGround;
        case Cell::volume: return kVolume;
        case Cell::live: return kLive;
        case Cell::gone: return colour_of(Band::gone);
        case Cell::faint: return colour_of(Band::faint);
        case Cell::patchy: return colour_of(Band::patchy);
        case Cell::sound: return colour_of(Band::sound);
        case Cell::unreadable: break;
    }
    return palette::kUnreadable.rgb;
}

Cell cell_of(State state, Band band) {
    if (state == State::live) return Cell::live;
    constexpr std::array kCells = {Cell::sound, Cell::patchy, Cell::faint, Cell::gone};
    return kCells[static_cast<std::size_t>(band) % kCells.size()];
}

}  // namespace

Result<Figure> medium_map(const Catalog& catalog, const ScannedSource& source, const Coverage& unreadable) {
    constexpr std::size_t kAcross = 128, kDown = 40;
    constexpr double kSide = 9, kLeft = 40, kTop = 56;
    const std::uint64_t size = std::max<std::uint64_t>(source.identity.size, 1);
    std::vector<Cell> cells(kAcross * kDown, Cell::outside);
    const auto place = [&](std::uint64_t at) {
        return std::min(cells.size() - 1, static_cast<std::size_t>(static_cast<double>(at) / static_cast<double>(size) *
                                                                   static_cast<double>(cells.size())));
    };
    const auto mark = [&](std::uint64_t offset, std::uint64_t length, Cell cell) {
        if (length == 0 || offset >= size) return;
        for (std::size_t i = place(offset); i <= place(offset + length - 1); ++i) cells[i] = std::max(cells[i], cell);
    };
    DREDGER_TRY(const auto volumes, catalog.volumes());
    std::set<std::int64_t> here;
    std::vector<std::pair<std::size_t, std::string>> begins;  // cells with which volumes begin, and their numbers
    for (const ScannedVolume& volume : volumes) {
        if (volume.source != source.id) continue;
        here.insert(volume.id);
        if (volume.place.number == 0 || volume.place.offset >= size) continue;
        mark(volume.place.offset, volume.place.length, Cell::volume);
        begins.emplace_back(place(volume.place.offset), std::to_string(volume.place.number));
    }
    DREDGER_CHECK(catalog.each_extent([&](std::int64_t volume, State state, Band band, const Extent& extent) {
        if (here.contains(volume)) mark(extent.offset, extent.length, cell_of(state, band));
    }));
    for (const Extent& area : unreadable.extents()) mark(area.offset, area.length, Cell::unreadable);
    Figure figure{"map",
                  fmt::format("The medium, {} from its start (top left) to its end", size_text(size)),
                  static_cast<int>(2 * kLeft + kSide * kAcross),
                  static_cast<int>(kTop + kSide * kDown + 48),
                  {}};
    figure.draw = [cells = std::move(cells), begins = std::move(begins), has_bad = !unreadable.empty(),
                   title = figure.title](Pen& pen) {
        pen.text(title, kLeft, 32, 16, kInk, Pen::Anchor::start, true);
        for (std::size_t i = 0; i < cells.size(); ++i)
            pen.rectangle(kLeft + kSide * static_cast<double>(i % kAcross),
                          kTop + kSide * static_cast<double>(i / kAcross), kSide - 1, kSide - 1, colour_of(cells[i]));
        // Where a volume begins, a post with its number.
        for (const auto& [cell, number] : begins) {
            const double x = kLeft + kSide * static_cast<double>(cell % kAcross);
            const double y = kTop + kSide * static_cast<double>(cell / kAcross);
            pen.rectangle(x - 1, y - 1, 2, kSide + 1, kInk);
            pen.rectangle(x - 1, y - 1, kSide * 1.4, 2, kInk);
            if (cell % kAcross == 0) pen.text(number, x - 6, y + kSide, 11, kInk, Pen::Anchor::end, true);
        }
        std::vector<std::pair<std::uint32_t, std::string>> entries = {{kGround, "outside the volumes"},
                                                                      {kVolume, "in a volume, nothing known"},
                                                                      {kInk, "a volume begins"},
                                                                      {kLive, "live files"}};
        for (std::size_t band = 0; band < palette::kBands.size(); ++band)
            entries.emplace_back(palette::kBands[band].rgb, std::string(kBandWords[band]));
        if (has_bad) entries.emplace_back(palette::kUnreadable.rgb, "unreadable");
        legend(pen, kLeft, kTop + kSide * kDown + 30, entries);
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
            for (std::size_t band = 0; band < palette::kBands.size(); ++band) {
                const double width = kWidth * static_cast<double>(totals.bands[band]) / most;
                pen.rectangle(x, y, width, 24, palette::kBands[band].rgb);
                x += width;
            }
            pen.text(count_text(totals.files), x + 8, y + 17, 13, kPale);
            y += kRow;
        }
        std::vector<std::pair<std::uint32_t, std::string>> entries;
        for (std::size_t band = 0; band < palette::kBands.size(); ++band)
            entries.emplace_back(palette::kBands[band].rgb, std::string(kBandWords[band]));
        legend(pen, kLeft, y + 22, entries);
    };
    return figure;
}

Result<Figure> deletions_figure(const Catalog& catalog, const Selection& selection) {
    // By months since the year 0: deleted then; changed last then.
    std::map<int, std::array<std::uint64_t, 2>> months;
    DREDGER_CHECK(catalog.each(selection, {}, false, [&](const Candidate& c) {
        const auto& time = c.record.deleted ? c.record.deleted : c.record.modified;
        if (!time || c.record.is_folder) return true;
        const std::string day = iso8601(in_local_digits(*time));
        ++months[std::stoi(day.substr(0, 4)) * 12 + std::stoi(day.substr(5, 2)) - 1][c.record.deleted ? 0 : 1];
        return true;
    }));
    // The last ten years of it: what is older are clocks that were never set.
    constexpr int kMost = 120;
    std::uint64_t older = 0;
    while (!months.empty() && months.rbegin()->first - months.begin()->first >= kMost) {
        older += months.begin()->second[0] + months.begin()->second[1];
        months.erase(months.begin());
    }
    constexpr double kLeft = 60, kTop = 56, kHeight = 220, kWidth = 900;
    Figure figure{"deletions", "When finds were deleted, or last changed where that is not recorded", 1000, 360, {}};
    figure.draw = [months = std::move(months), older, title = figure.title](Pen& pen) {
        pen.text(title, 24, 32, 16, kInk, Pen::Anchor::start, true);
        std::uint64_t most = 1;
        for (const auto& [month, counts] : months) most = std::max(most, counts[0] + counts[1]);
        pen.line(kLeft, kTop + kHeight, kLeft + kWidth, kTop + kHeight, kLine);
        pen.text(count_text(most), kLeft - 8, kTop + 12, 12, kPale, Pen::Anchor::end);
        const int first = months.empty() ? 0 : months.begin()->first;
        const int count = months.empty() ? 1 : months.rbegin()->first - first + 1;
        const double step = kWidth / count;
        const auto tall = [&](std::uint64_t files) {
            return kHeight * static_cast<double>(files) / static_cast<double>(most);
        };
        for (const auto& [month, counts] : months) {
            const double gap = std::min(4.0, step / 5), x = kLeft + step * (month - first) + gap / 2;
            const double width = std::min(step - gap, 60.0);
            pen.rectangle(x, kTop + kHeight - tall(counts[0]), width, tall(counts[0]), kDeletedThen);
            pen.rectangle(x, kTop + kHeight - tall(counts[0] + counts[1]), width, tall(counts[1]), kLive);
        }
        // Years where the axis is long, months where there is room for their names.
        const int every = count <= 14 ? 1 : count <= 42 ? 3 : 12;
        for (int month = first; month < first + count; ++month) {
            if (month % every != 0) continue;
            const double x = kLeft + step * (month - first);
            pen.line(x, kTop + kHeight, x, kTop + kHeight + 5, kLine);
            pen.text(every == 12 ? std::to_string(month / 12) : fmt::format("{}-{:02}", month / 12, month % 12 + 1),
                     x + 2, kTop + kHeight + 18, 11, kPale);
        }
        legend(pen, kLeft, kTop + kHeight + 48, {{kDeletedThen, "deleted then"}, {kLive, "changed last then"}});
        if (older > 0)
            pen.text(fmt::format("{} of earlier years are left out", count_text(older)), kLeft + kWidth,
                     kTop + kHeight + 48, 12, kPale, Pen::Anchor::end);
    };
    return figure;
}

}  // namespace dredger::reporting
