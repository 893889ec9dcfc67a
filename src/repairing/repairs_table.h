// The table of a folder of results: a row for each file that was looked at.
#pragma once

#include <filesystem>
#include <fstream>
#include <set>
#include <string>

#include "base/error.h"
#include "repairing/repair.h"

namespace dredger::repairing {

class RepairsTable {
  public:
    RepairsTable() = default;
    // Rows of earlier runs stay where all came back and the result is there; the others are made anew.
    static Result<RepairsTable> open(const std::filesystem::path& path);

    bool is_mended(const std::string& file) const { return mended_.contains(file); }
    Result<void> add(const RepairedItem& item);

  private:
    std::filesystem::path path_;
    std::set<std::string> mended_;
    std::ofstream out_;
};

}  // namespace dredger::repairing
