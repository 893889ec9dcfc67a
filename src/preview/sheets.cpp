#include "preview/sheets.h"

#include <fmt/format.h>

#include "base/palette.h"
#include "base/text.h"
#include "preview/canvas.h"

namespace dredger::preview {
namespace {

constexpr int kWidth = 1280, kHeight = 800, kColumns = 5, kRows = 3;  // pixels, cells
constexpr double kMargin = 16, kGap = 12, kCaption = 58;
constexpr std::uint32_t kGround = 0xE9E5DC, kFrame = 0xFFFFFF, kInk = 0x2B2A28, kPale = 0x6F6A61;

std::uint32_t colour_of(Band band) { return palette::kBands[static_cast<std::size_t>(band)].rgb; }

void draw(Canvas& sheet, const Shown& shown, const std::filesystem::path& folder, double x, double y, double width,
          double height) {
    const Candidate& c = shown.candidate;
    sheet.rectangle(x, y, width, height, kFrame);
    const double room = height - kCaption;
    const auto tile = shown.tile.has_picture ? Canvas::from_png(folder / "tiles" / (std::to_string(c.id) + ".png"))
                                             : std::unique_ptr<Canvas>();
    if (tile) {
        sheet.canvas(*tile, x + 6, y + 6, width - 12, room - 12);
    } else {
        sheet.rectangle(x + 6, y + 6, width - 12, room - 12, kGround);
        sheet.text(std::string(c.format.empty() ? word_for(c.kind) : std::string_view(c.format)), x + 18,
                   y + room / 2 - 14, width - 36, 20, kPale);
    }
    sheet.text(printable(c.record.name), x + 8, y + room, width - 16, 13, kInk, true);
    const std::string when = c.record.modified ? shown_time(*c.record.modified).substr(0, 10) : "no date";
    sheet.text(fmt::format("{}   {}", c.id, when), x + 8, y + room + 18, width - 16, 12, kPale);
    const double meter = width - 100;
    sheet.rectangle(x + 8, y + room + 42, meter, 6, kGround);
    sheet.rectangle(x + 8, y + room + 42, meter * c.prospect.value / 100, 6, colour_of(c.prospect.band));
    sheet.text(fmt::format("{} {}", c.prospect.value, word_for(c.prospect.band)), x + 16 + meter, y + room + 36, 84, 12,
               kInk);
}

}  // namespace

std::uint64_t write_sheets(const std::vector<Shown>& shown, const std::filesystem::path& folder) {
    constexpr std::size_t kOnOne = kColumns * kRows;
    constexpr double kCellWidth = (kWidth - 2 * kMargin - (kColumns - 1) * kGap) / kColumns;
    constexpr double kCellHeight = (kHeight - 2 * kMargin - (kRows - 1) * kGap) / kRows;
    std::uint64_t sheets = 0;
    for (std::size_t first = 0; first < shown.size(); first += kOnOne) {
        Canvas sheet(kWidth, kHeight, kGround);
        for (std::size_t i = first; i < std::min(first + kOnOne, shown.size()); ++i) {
            const auto column = static_cast<double>((i - first) % kColumns);
            const auto row = static_cast<double>((i - first) / kColumns);
            draw(sheet, shown[i], folder, kMargin + column * (kCellWidth + kGap), kMargin + row * (kCellHeight + kGap),
                 kCellWidth, kCellHeight);
        }
        if (sheet.write_png(folder / "sheets" / fmt::format("sheet-{:03}.png", sheets + 1))) ++sheets;
    }
    return sheets;
}

}  // namespace dredger::preview
