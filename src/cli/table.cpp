#include "cli/table.h"

#include <algorithm>
#include <fmt/format.h>

#include "cli/terminal.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

constexpr std::size_t kGap = 2;
constexpr std::size_t kLeastLast = 24;  // columns of the terminal, for the last one

std::vector<std::string> lines_of(const std::string& text) {
    std::vector<std::string> lines;
    for (std::size_t from = 0; from <= text.size();) {
        const std::size_t end = std::min(text.find('\n', from), text.size());
        lines.push_back(text.substr(from, end - from));
        from = end + 1;
    }
    return lines;
}

}  // namespace

std::vector<std::size_t> Table::full_widths() const {
    std::vector<std::size_t> widths;
    for (const Column& column : columns_) widths.push_back(display_width(column.title));
    for (const auto& row : rows_)
        for (std::size_t i = 0; i < row.size(); ++i) widths[i] = std::max(widths[i], display_width(row[i]));
    return widths;
}

std::vector<std::size_t> Table::shown_columns(const std::vector<std::size_t>& widths, std::size_t room) const {
    std::vector<std::size_t> shown;
    for (std::size_t i = 0; i < columns_.size(); ++i) {
        const bool says_nothing =
            std::all_of(rows_.begin(), rows_.end(), [&](const auto& row) { return row[i] == "-"; });
        if (!columns_[i].may_be_left_out || !says_nothing) shown.push_back(i);
    }
    const auto takes_too_much = [&] {
        std::size_t taken = std::min(widths[shown.back()], kLeastLast);
        for (const std::size_t i : shown) taken += i == shown.back() ? 0 : widths[i] + kGap;
        return taken > room;
    };
    while (takes_too_much()) {
        const auto least = std::min_element(shown.begin(), shown.end() - 1, [&](std::size_t a, std::size_t b) {
            return columns_[a].worth < columns_[b].worth;
        });
        if (least == shown.end() - 1 || columns_[*least].worth >= kStays) break;
        shown.erase(least);
    }
    return shown;
}

void Table::print(std::size_t indent) const {
    const std::size_t terminal = width_of_stdout();
    std::vector<std::size_t> widths = full_widths();
    const std::vector<std::size_t> shown = shown_columns(widths, terminal - std::min(terminal, indent));
    const std::size_t last = shown.back();
    std::size_t before_last = indent;
    for (const std::size_t i : shown) before_last += i == last ? 0 : widths[i] + kGap;
    const std::size_t for_last = std::max(kLeastLast, terminal - std::min(terminal, before_last));
    widths[last] = std::min(widths[last], for_last);

    const auto print_row = [&](const std::vector<std::string>& cells, Style style) {
        const std::string text =
            columns_[last].is_path ? shortened_path(cells[last], for_last) : wrapped(cells[last], for_last, 0);
        std::string before(indent, ' ');
        for (const std::size_t i : shown) {
            if (i == last) continue;
            const std::string padding(widths[i] - std::min(widths[i], display_width(cells[i])), ' ');
            before += columns_[i].align == Align::right ? padding + cells[i] : cells[i] + padding;
            before += std::string(kGap, ' ');
        }
        for (const std::string& part : lines_of(text)) {
            const std::string padding(widths[last] - std::min(widths[last], display_width(part)), ' ');
            std::string line = before + (columns_[last].align == Align::right ? padding + part : part);
            line.erase(line.find_last_not_of(' ') + 1);
            fmt::print("{}\n", styled(line, style));
            before.assign(before_last, ' ');
        }
    };
    std::vector<std::string> titles;
    for (const Column& column : columns_) titles.push_back(column.title);
    print_row(titles, Style::bold);
    for (std::size_t row = 0; row < rows_.size(); ++row) {
        print_row(rows_[row], Style::plain);
        if (below_[row].empty()) continue;
        constexpr std::size_t kBelow = 6;
        const std::size_t room = std::max(kLeastLast, terminal - std::min(terminal, kBelow));
        fmt::print("{}{}\n", std::string(kBelow, ' '), styled(shortened(below_[row], room), Style::dim));
    }
}

}  // namespace dredger::cli
