// A copy of a medium, its good areas first, with a map of what could not be read. Whatever ends it, it goes on there.
#pragma once

#include <chrono>
#include <filesystem>
#include <optional>

#include "base/observer.h"
#include "imaging/passes.h"
#include "media/area_map.h"

namespace dredger {

struct CopyRequest {
    std::filesystem::path source;
    std::filesystem::path file;
    std::uint64_t split = 0;  // bytes of a part; 0: one file
    std::uint64_t block = 1 << 20;
    unsigned retries = 0;
    bool reverse = false;
    Extent range = {0, ~std::uint64_t{0}};  // of the medium
    std::chrono::milliseconds timeout{60'000};
    bool hashes = true;            // the SHA-256 of the image is wanted
    bool onto_same_drive = false;  // spelled out: the image may lie on the drive being read
    MediumPtr medium = nullptr;    // to be read instead of what is at `source`; for tests
};

struct CopyReport {
    std::uint64_t size = 0;    // bytes of the medium
    std::uint64_t copied = 0;  // bytes that this run read
    AreaTotals totals;         // of the whole map
    std::string sha256;  // of the image, with zeros where nothing could be read; empty: not all of it was asked for
    std::filesystem::path map;
    bool was_resumed = false;
    bool interrupted = false;
    std::optional<Error> stopped;  // what ended it early: the destination is full, the medium does not answer any more
};

// An error only where nothing was begun; what ends it later is told in the report.
Result<CopyReport> copy_medium(const CopyRequest& request, Observer& observer);

}  // namespace dredger
