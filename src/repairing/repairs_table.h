// The table of a folder of results: a row for each file that was looked at.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "base/error.h"
#include "repairing/repair.h"

namespace dredger::repairing {

class RepairsTable {
  public:
    RepairsTable() = default;
    // With the rows of earlier runs whose results are there.
    static Result<RepairsTable> open(const std::filesystem::path& path);

    // Whether an earlier run brought all of a file back.
    bool is_mended(const std::string& file) const;
    // In place of what earlier runs said of the file.
    Result<void> add(const RepairedItem& item);

  private:
    std::filesystem::path path_;
    std::vector<std::vector<std::string>> earlier_;  // rows
};

}  // namespace dredger::repairing
