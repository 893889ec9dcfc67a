// A page that shows files before and after they were mended, side by side: pictures, frames of films, text. Decoders
// run in a process of their own.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "repairing/repair.h"

namespace dredger::repairing {

class LookPage {
  public:
    // Makes the folder.
    static Result<LookPage> create(const std::filesystem::path& folder);

    // `after`: null where there is no result.
    void add(const RepairedItem& item, const Medium& before, const Medium* after);
    // Writes the page; where it is.
    Result<std::filesystem::path> finish() const;

  private:
    explicit LookPage(std::filesystem::path folder) : folder_(std::move(folder)) {}
    std::string side(const Medium& content, std::string_view format);

    std::filesystem::path folder_;
    std::int64_t next_ = 1;  // number of a tile
    std::string rows_;
};

}  // namespace dredger::repairing
