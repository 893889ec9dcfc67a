// What the walks of all file systems do alike: hand records over until somebody has enough, say how far they are, and
// collect what damage cost.
#pragma once

#include <algorithm>
#include <fmt/format.h>

#include "filesystems/filesystem.h"

namespace dredger {

// Gives a record whose name is not known a number for it; `note` says why.
inline void name_by_number(Record& record, std::string placeholder, std::string note) {
    record.name = std::move(placeholder);
    record.name_is_whole = false;
    record.name_is_placeholder = true;
    record.notes.push_back(std::move(note));
}

// What is told of one of a file's streams: all that is told of the file, but for its content.
inline Record stream_of(const Record& file, std::string_view name, const std::vector<Extent>& places,
                        std::uint64_t size, bool within_records) {
    Record stream = file;
    stream.name_stream(name);
    stream.layout = {};
    stream.layout.lay(places);
    stream.layout.within_records = within_records;
    stream.size = size;
    const bool whole =
        std::none_of(places.begin(), places.end(), [](const Extent& place) { return place.is_unknown(); });
    stream.trust = whole ? LayoutTrust::exact : LayoutTrust::damaged;
    return stream;
}

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
