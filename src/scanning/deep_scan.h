// The deep scan of one stretch of a medium, a volume or what lies outside of them: the content of its records is
// checked, then its ground is searched, and what turns up is merged with the records. Where the request only wants
// contents verified, it ends with the first.
#pragma once

#include <chrono>
#include <map>

#include "carving/carver.h"
#include "catalog/catalog.h"
#include "ranking/claims.h"
#include "scanning/comparing.h"
#include "scanning/scan_session.h"

namespace dredger {

class DeepScan final : FindSink {
  public:
    struct Outcome {
        SurfaceReport report;
        std::vector<VolumeTrace> traces;  // of volumes, seen on the way
        Fingerprints fingerprints;        // of the finds
        bool stopped = false;
    };

    explicit DeepScan(ScanSession& session) : DeepScan(session, session.request) {}
    // With another request than the session's.
    DeepScan(ScanSession& session, const ScanRequest& request)
        : session_(session), catalog_(session.catalog), request_(request), observer_(session.observer) {}

    // Writes down that `ground`, on the medium, is to be searched: a unit of work with a state of its own. A search
    // that goes on keeps to the ground that it began with, whatever has been freed since.
    Result<void> plan(const ScannedVolume& volume, const std::vector<Extent>& ground);

    // Does what was planned of it, or goes on where it was left. `filesystem`: that of the volume, where it is open.
    Result<Outcome> run(const ScannedVolume& volume, const FileSystem* filesystem = nullptr);

  private:
    Result<void> check_records();
    Result<void> join_torn(const std::vector<Extent>& ground);
    Result<void> take(Find&& find) override;
    void take(VolumeTrace&& trace) override {
        keep_trace(std::move(trace), traces_);
        has_new_traces_ = true;
    }
    Result<bool> reached(const SweepState& state) override;
    bool should_stop() override { return observer_.should_stop(); }
    Result<void> learn_places();
    Result<bool> merge(const Find& find);
    Result<bool> merge_with_start(const Find& find);
    Result<bool> merge_within(const Find& find);
    Result<void> add(Find&& find);
    Result<void> save();
    void report_progress(const char* doing, std::uint64_t done, std::uint64_t total, const char* unit);

    ScanSession& session_;
    Catalog& catalog_;
    const ScanRequest& request_;
    Observer& observer_;
    ScannedVolume volume_;
    const FileSystem* filesystem_ = nullptr;
    Sweep sweep_;
    Coverage taken_;  // by records whose content was found right
    Claims claims_;   // of all records
    std::vector<VolumeTrace> traces_;
    bool has_new_traces_ = false;
    Fingerprints fingerprints_;
    SurfaceReport report_;
    std::int64_t next_id_ = 0;
    std::map<std::string_view, std::uint64_t> by_kind_;
    std::chrono::steady_clock::time_point saved_;
    bool stopped_ = false;
};

}  // namespace dredger
