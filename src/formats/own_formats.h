// Formats that a user describes in a TOML file; docs/formats.md has the schema.
#pragma once

#include <deque>
#include <filesystem>
#include <vector>

#include "formats/format.h"

namespace dredger {

class OwnFormats {
  public:
    // An error names the place in the file and what was expected.
    static Result<OwnFormats> read(const std::filesystem::path& file);

    const std::vector<Format>& formats() const { return formats_; }

  private:
    std::string_view keep(std::string text) { return words_.emplace_back(std::move(text)); }

    std::deque<std::string> words_;  // that the formats point to
    std::vector<Format> formats_;
};

}  // namespace dredger
