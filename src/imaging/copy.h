// A copy of a medium that may be failing: what is worth most first, what refuses last, with a map of what each area
// answered. Whatever ends it, it goes on there.
#pragma once

#include <chrono>
#include <filesystem>
#include <optional>

#include "base/observer.h"
#include "imaging/pulse.h"
#include "media/area_map.h"

namespace dredger {

struct CopyRequest {
    std::filesystem::path source;
    std::filesystem::path file;
    std::uint64_t split = 0;                     // bytes of a part; 0: one file
    std::uint64_t piece = 1 << 20;               // bytes asked for at first; a multiple of 4096
    unsigned asks = 5;                           // how often one byte is asked for at most
    bool backwards = false;                      // from the end to the start
    Extent within = {0, ~std::uint64_t{0}};      // of the medium; nothing else is copied
    bool structures_first = true;                // what the file systems keep of their files
    std::vector<Extent> chosen;                  // places on the medium that come next, in any order
    std::chrono::milliseconds patience{60'000};  // until a read that hangs is given up
    std::chrono::milliseconds at_most{0};        // then it ends; 0: when it is done
    bool hashes = true;                          // the SHA-256 of the image is wanted
    bool onto_same_drive = false;                // spelled out: the image may lie on the drive being read
    MediumPtr medium = nullptr;                  // to be read instead of what is at `source`; for tests
};

struct CopyReport {
    std::uint64_t size = 0;                        // bytes of the medium
    std::uint64_t copied = 0;                      // bytes that this run brought
    AreaTotals totals;                             // of the whole map
    std::optional<AreaTotals> structures, chosen;  // of these parts, where they were told apart
    std::string sha256;  // of the image, with zeros where nothing came; empty: not all of it was asked for
    std::filesystem::path map;
    std::vector<std::string> health;                // of the medium, and what to do, a sentence each
    std::chrono::milliseconds price_of_refusal{0};  // what an ask that is refused takes
    bool was_resumed = false;
    bool interrupted = false;
    bool out_of_time = false;
    std::optional<Error> stopped;  // what ended it early: the destination is full, the medium does not answer any more
};

// An error only where nothing was begun; what ends it later is told in the report.
Result<CopyReport> copy_medium(const CopyRequest& request, Observer& observer);

}  // namespace dredger
