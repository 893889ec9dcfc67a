// What the walks of all file systems do alike: hand records over until somebody has enough, say how far they are, and
// collect what damage cost.
#pragma once

#include <fmt/format.h>

#include "filesystems/filesystem.h"

namespace dredger {

class Walking {
  protected:
    Walking(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings)
        : options_(options), warnings_(warnings), sink_(sink) {}

    void emit(Record&& record) { stopped_ = stopped_ || !sink_.take(std::move(record)); }

    // False: somebody has asked to stop.
    bool go_on(const char* doing, std::uint64_t done, std::uint64_t total) {
        stopped_ = stopped_ || (options_.go_on && !options_.go_on(doing, done, total));
        return !stopped_;
    }

    // "3 folders are damaged: ..." where there is any.
    void warn_of(std::uint64_t count, std::string_view sentence) {
        if (count > 0) warnings_.push_back(fmt::format("{} {}", count, sentence));
    }

    const WalkOptions& options_;
    std::vector<std::string>& warnings_;
    bool stopped_ = false;  // nothing is handed over any more

  private:
    RecordSink& sink_;
};

}  // namespace dredger
