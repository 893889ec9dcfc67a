// The table of a folder of results: a row for each file that was looked at.
#pragma once

#include <filesystem>
#include <map>
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
    // What an earlier run made of a file, where it has this checksum; empty: there is no such result.
    std::string earlier_result(const std::string& file, const std::string& sha256) const;
    // Written at once, so that it outlasts an interruption. What is said last of a file counts.
    Result<void> add(const RepairedItem& item);
    // Leaves one row of each file.
    Result<void> finish();

  private:
    std::filesystem::path path_;
    std::map<std::string, std::vector<std::string>> earlier_;  // rows of earlier runs, by file
    bool has_repeats_ = false;
};

}  // namespace dredger::repairing
