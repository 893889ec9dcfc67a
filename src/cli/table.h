// A table for people: straight columns, also with wide characters; the last column is shortened to the terminal.
#pragma once

#include <string>
#include <vector>

namespace dredger::cli {

class Table {
  public:
    enum class Align { left, right };
    struct Column {
        std::string title;
        Align align = Align::left;
        bool may_be_left_out = false;  // where it says "-" in every row
    };

    explicit Table(std::vector<Column> columns) : columns_(std::move(columns)) {}
    void add(std::vector<std::string> row) { rows_.push_back(std::move(row)); }
    bool empty() const { return rows_.empty(); }
    // To stdout, indented by `indent` columns.
    void print(std::size_t indent = 0) const;

  private:
    std::vector<std::size_t> shown_columns() const;

    std::vector<Column> columns_;
    std::vector<std::vector<std::string>> rows_;
};

}  // namespace dredger::cli
