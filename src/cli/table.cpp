#include "cli/table.h"

#include <algorithm>
#include <fmt/format.h>

#include "cli/terminal.h"
#include "cli/words.h"

namespace dredger::cli {

std::vector<std::size_t> Table::shown_columns() const {
    std::vector<std::size_t> shown;
    for (std::size_t i = 0; i < columns_.size(); ++i) {
        const bool says_nothing =
            std::all_of(rows_.begin(), rows_.end(), [&](const auto& row) { return row[i] == "-"; });
        if (!columns_[i].may_be_left_out || !says_nothing) shown.push_back(i);
    }
    return shown;
}

void Table::print(std::size_t indent) const {
    constexpr std::size_t kGap = 2;
    constexpr std::size_t kLeastLast = 20;
    const std::vector<std::size_t> shown = shown_columns();
    std::vector<std::size_t> widths(columns_.size());
    std::size_t before_last = indent;
    for (const std::size_t i : shown) {
        std::size_t width = display_width(columns_[i].title);
        for (const auto& row : rows_) width = std::max(width, display_width(row[i]));
        widths[i] = width;
        if (i != shown.back()) before_last += width + kGap;
    }
    const std::size_t terminal = width_of_stdout();
    const std::size_t for_last = std::max(kLeastLast, terminal > before_last ? terminal - before_last : 0);

    const auto print_row = [&](const std::vector<std::string>& cells, Style style) {
        std::string line(indent, ' ');
        for (const std::size_t i : shown) {
            const bool is_last = i == shown.back();
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
