#include "cli/table.h"

#include <algorithm>
#include <fmt/format.h>

#include "cli/terminal.h"
#include "cli/words.h"

namespace dredger::cli {

void Table::print(std::size_t indent) const {
    constexpr std::size_t kGap = 2;
    constexpr std::size_t kLeastLast = 20;
    std::vector<std::size_t> widths;
    std::size_t before_last = indent;
    for (std::size_t i = 0; i < columns_.size(); ++i) {
        std::size_t width = display_width(columns_[i].title);
        for (const auto& row : rows_) width = std::max(width, display_width(row[i]));
        widths.push_back(width);
        if (i + 1 < columns_.size()) before_last += width + kGap;
    }
    const std::size_t terminal = width_of_stdout();
    const std::size_t for_last = std::max(kLeastLast, terminal > before_last ? terminal - before_last : 0);

    const auto print_row = [&](const std::vector<std::string>& cells, Style style) {
        std::string line(indent, ' ');
        for (std::size_t i = 0; i < cells.size(); ++i) {
            const bool is_last = i + 1 == cells.size();
            const std::string cell = is_last ? shortened(cells[i], for_last) : cells[i];
            const std::string padding(widths[i] - std::min(widths[i], display_width(cell)), ' ');
            line += columns_[i].align == Align::right ? padding + cell : is_last ? cell : cell + padding;
            if (!is_last) line += std::string(kGap, ' ');
        }
        line.erase(line.find_last_not_of(' ') + 1);
        fmt::print("{}\n", styled(line, style));
    };
    std::vector<std::string> titles;
    for (const Column& column : columns_) titles.push_back(column.title);
    print_row(titles, Style::bold);
    for (const auto& row : rows_) print_row(row, Style::plain);
}

}  // namespace dredger::cli
