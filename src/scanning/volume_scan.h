// The quick scan of one volume: its records into the catalog, then their prospects.
#pragma once

#include "bins/bins.h"
#include "ranking/claims.h"
#include "ranking/evidence.h"
#include "scanning/scan_session.h"
#include "scanning/spool.h"

namespace dredger {

// How a scan answers WalkOptions::head_for_name: by the signatures of the formats.
Agreement head_for_name(std::string_view name, ByteView head);

class VolumeScan final : RecordSink {
  public:
    struct Outcome {
        VolumeReport report;
        bool interrupted = false;
    };

    explicit VolumeScan(ScanSession& session)
        : session_(session), catalog_(session.catalog), request_(session.request), observer_(session.observer) {}

    // The file system is a former one, and `today` the one that was put over it, whose records `row` has in the
    // catalog.
    void lies_under(const FileSystem& today, const ScannedVolume& row) {
        today_ = &today;
        today_row_ = row;
    }

    // What the catalog has of this volume as a whole is not read again.
    Result<Outcome> run(const Volume& place, const MediumPtr& volume, const FileSystem& filesystem);

  private:
    bool take(Record&& record) override;
    Result<void> keep(Record&& record);
    Result<void> claim_for_today();
    bool was_lost(const FileEntry& record) const;
    void claim(const Record& record, std::int64_t id, bool holds_its_space);
    bool is_wanted(const FileEntry& record) const;
    Result<void> judge_all();
    Result<void> judge_waiting(WaitingRecord&& waiting);
    Prospect judged(const Record& record, std::int64_t id);
    std::string name_of(std::int64_t id);
    Result<void> store(std::int64_t id, Record&& record, const Prospect& prospect);
    Result<void> save_now_and_then();
    void report_progress(const char* doing, std::uint64_t done, std::uint64_t total);

    ScanSession& session_;
    Catalog& catalog_;
    const ScanRequest& request_;
    Observer& observer_;
    ScannedVolume row_;
    MediumPtr volume_;
    const SpaceMap* space_ = nullptr;
    const FileSystem* today_ = nullptr;
    ScannedVolume today_row_;
    Bins bins_;
    Claims claims_;
    PaddingHabit habit_;
    VolumeReport report_;
    std::optional<Spool> waiting_;  // until every claim on their bytes is known
    std::int64_t next_id_ = 1;
    std::uint64_t live_bytes_ = 0;    // in clusters
    std::uint64_t live_on_free_ = 0;  // of those, what the space map calls free
    std::uint64_t unsaved_ = 0;
    bool interrupted_ = false;
    std::optional<Error> failure_;  // of a take(), which can only say that the walk should end
};

}  // namespace dredger
