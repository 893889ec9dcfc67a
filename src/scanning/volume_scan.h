// The quick scan of one volume: its records into the catalog, then their prospects.
#pragma once

#include <map>
#include <set>

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

    // What is known of a volume's files before one of its earlier states is walked; files by told_by(). The states add
    // what they tell.
    struct Told {
        std::set<std::uint64_t> well;                  // needs not be told again
        std::map<std::uint64_t, std::int64_t> poorly;  // deleted since, and not all of it is left: the candidate
        std::set<std::uint64_t> live_in_a_state;       // stands whole in one of the states
        std::set<std::uint64_t> paths;                 // by path_hash(): something is there today, or in a newer state
    };
    // The volume is a state of another one at a point in time, whose records `row` has in the catalog, and `today` is
    // that one's file system now. Only what differs is listed.
    struct PointInTime {
        std::string name;  // for people: "shadow copy of 2026-05-01 10:00"
        std::optional<FileTime> made;
        std::uint64_t version = 0;  // FileEntry::version of its files
        bool is_whole = true;       // all that was kept of it was found
        Told* told = nullptr;
    };
    void is_state_of(const FileSystem& today, const PointInTime& point, const ScannedVolume& row) {
        current_ = &today;
        point_ = point;
        today_row_ = row;
    }
    // The volume is a mail store, the content of this find.
    void lies_in_find(std::int64_t find) { find_ = find; }
    // By which a file of one state is the same in another one: its path, size and time.
    static std::uint64_t told_by(const FileEntry& record);
    static std::uint64_t path_hash(const FileEntry& record);

    // What the catalog has of this volume as a whole is not read again; where a narrower scan kept less, the rest is
    // added.
    Result<Outcome> run(const Volume& place, const MediumPtr& volume, const FileSystem& filesystem);

  private:
    bool take(Record&& record) override;
    Result<void> keep(Record&& record);
    Result<void> claim_for_today();
    Result<void> learn_kept();
    // What tells a record of a volume, with the name and place that it has in the end, from the others.
    static std::string kept_key(const FileEntry& record);
    // The number under which an earlier scan kept it; `id`: its number in this one. 0: it kept none.
    std::int64_t number_kept(std::int64_t id, const FileEntry& record);
    Result<void> remove_what_is_no_more();
    Result<void> keep_of_state(Record&& record);
    Result<void> complete(std::int64_t id, Record&& record, Prospect&& prospect);
    void leave_out_taken(Record& record) const;
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
    std::int64_t find_ = 0;
    MediumPtr volume_;
    const SpaceMap* space_ = nullptr;
    const FileSystem* today_ = nullptr;
    ScannedVolume today_row_;
    const FileSystem* current_ = nullptr;
    std::optional<PointInTime> point_;
    Bins bins_;
    Claims claims_;
    PaddingHabit habit_;
    VolumeReport report_;
    std::optional<Spool> waiting_;  // until every claim on their bytes is known
    std::int64_t next_id_ = 1;
    std::map<std::string, std::vector<std::int64_t>> kept_;  // numbers by kept_key(): of an earlier scan
    std::map<std::int64_t, std::int64_t> number_kept_;       // of those that are met again, by their number in this one
    bool renews_ = false;                                    // what was kept, too: it was not read whole
    std::uint64_t live_bytes_ = 0;                           // in clusters
    std::uint64_t live_on_free_ = 0;                         // of those, what the space map calls free
    std::uint64_t unsaved_ = 0;
    bool interrupted_ = false;
    std::optional<Error> failure_;  // of a take(), which can only say that the walk should end
};

}  // namespace dredger
