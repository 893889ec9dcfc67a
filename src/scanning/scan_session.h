// One run of a scan: what its steps work with, and what they report to. All of them run in the thread that began it.
#pragma once

#include "base/observer.h"
#include "catalog/catalog.h"
#include "media/medium.h"
#include "scanning/scan_report.h"
#include "scanning/scan_request.h"
#include "scanning/wanted_finds.h"

namespace dredger {

struct ScanSession {
    Catalog& catalog;
    const ScanRequest& request;
    Observer& observer;
    MediumPtr medium;
    std::int64_t source;  // ScannedSource::id
    WantedFinds wanted{request.until, request.until_count};
    ScanReport report = {};

    // What the catalog has of a volume; null where it has nothing.
    Result<std::optional<ScannedVolume>> known(const Volume& place) const {
        DREDGER_TRY(const auto volumes, catalog.volumes());
        const ScannedVolume* row = row_of(volumes, source, place);
        return row != nullptr ? std::optional(*row) : std::nullopt;
    }
};

}  // namespace dredger
