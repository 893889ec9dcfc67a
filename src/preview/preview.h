// Previews of chosen candidates in a folder: a picture of each, contact sheets, and a page to look through and pick
// from.
#pragma once

#include <filesystem>
#include <optional>

#include "base/observer.h"
#include "catalog/attaching.h"

namespace dredger {

struct PreviewRequest {
    Selection selection;
    Order order;
    std::optional<std::uint64_t> most;  // candidates
    AttachRequest attach;               // with the folder that previews go to
};

struct PreviewReport {
    std::uint64_t files = 0;      // selected
    std::uint64_t looked_at = 0;  // fewer where it was interrupted
    std::uint64_t copies = 0;     // selected, but shown by another find of the same content
    std::uint64_t pictures = 0;   // those of them that there is a picture of
    std::uint64_t failed = 0;     // whose decoder crashed or met a limit
    std::uint64_t sheets = 0;
    std::filesystem::path page;
    bool interrupted = false;
};

// What is learnt of the finds meanwhile is kept in the catalog.
Result<PreviewReport> make_previews(Catalog& catalog, const PreviewRequest& request, Observer& observer);

}  // namespace dredger
