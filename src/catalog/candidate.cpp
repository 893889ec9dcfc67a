#include "catalog/candidate.h"

#include <fmt/format.h>

namespace dredger {

std::string title_of(const Record& record) {
    const auto written = record.created ? record.created : record.modified;
    return written ? fmt::format("{} (written {})", record.path(), short_time(*written)) : record.path();
}

}  // namespace dredger
