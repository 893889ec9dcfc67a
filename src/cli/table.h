// A table for people: straight columns, also with wide characters, that fits the terminal. What has no room gives way:
// columns of little worth are left out, paths lose the middle of their folders, sentences go on in the next line.
#pragma once

#include <string>
#include <vector>

namespace dredger::cli {

class Table {
  public:
    enum class Align { left, right };
    static constexpr int kStays = 100;

    struct Column {
        std::string title;
        Align align = Align::left;
        bool may_be_left_out = false;  // where it says "-" in every row
        int worth = kStays;            // of those that don't stay the one of the least worth is left out first
        bool is_path = false;          // as the last column
    };

    explicit Table(std::vector<Column> columns) : columns_(std::move(columns)) {}
    // `below`: a sentence on the row, for a line of its own.
    void add(std::vector<std::string> row, std::string below = {}) {
        rows_.push_back(std::move(row));
        below_.push_back(std::move(below));
    }
    bool empty() const { return rows_.empty(); }
    // To stdout, indented by `indent` columns.
    void print(std::size_t indent = 0) const;

  private:
    // Of each column, where nothing gives way.
    std::vector<std::size_t> full_widths() const;
    // Those to print in so many columns of the terminal.
    std::vector<std::size_t> shown_columns(const std::vector<std::size_t>& widths, std::size_t room) const;

    std::vector<Column> columns_;
    std::vector<std::vector<std::string>> rows_;
    std::vector<std::string> below_;  // by row
};

}  // namespace dredger::cli
