#include "scanning/shadow_volumes.h"

#include <fmt/format.h>
#include <set>

#include "scanning/volume_scan.h"
#include "volumes/mapping.h"
#include "volumes/shadow.h"

namespace dredger {
namespace {

// What the volume has itself.
Result<void> learn_today(const Catalog& catalog, std::int64_t volume, VolumeScan::Told& told) {
    Selection all;
    all.states = {};
    all.volumes = {volume};
    return catalog.each(all, Order{}, false, [&](const Candidate& c) {
        const bool is_live = c.record.state == State::live;
        const std::uint64_t key = VolumeScan::told_by(c.record);
        if (is_live) told.paths.insert(VolumeScan::path_hash(c.record));
        if (is_live || c.prospect.band == Band::sound)
            told.well.insert(key);
        else
            told.poorly.emplace(key, c.id);
        return true;
    });
}

// The files of the volume that hold stores; those that were deleted may still do.
Result<std::vector<ShadowFile>> files_with_stores(const Catalog& catalog, const ScannedVolume& row) {
    Selection named;
    named.states = {};
    named.volumes = {row.id};
    named.names = {"*{3808876b-c176-4e48-b7ae-04046e6cc752}"};
    std::vector<ShadowFile> files;
    DREDGER_CHECK(catalog.each(named, Order{}, true, [&](const Candidate& c) {
        ShadowFile file;
        file.made = c.record.created;
        for (const LayoutExtent& extent : c.layout.extents)
            for (const Extent& part : on_volume(row.place, extent)) file.extents.push_back(part);
        files.push_back(std::move(file));
        return true;
    }));
    return files;
}

// By the catalog of the volume; where that is lost, by what stands in the files that hold stores.
Result<ShadowCopies> shadows_of(ScanSession& session, const Medium& volume, const ScannedVolume& row) {
    ShadowCopies shadows = find_shadow_copies(volume);
    if (!shadows.copies.empty() && !shadows.lacks_catalog) return shadows;
    DREDGER_TRY(const auto files, files_with_stores(session.catalog, row));
    if (files.empty() && !shadows.lacks_catalog) return shadows;
    ShadowCopies lost = find_lost_shadow_copies(volume, files, [&](std::uint64_t done, std::uint64_t total) {
        session.observer.progress({"looking for shadow copies", done, total, "bytes", 0});
        return !session.observer.should_stop();
    });
    return lost.copies.empty() && !shadows.lacks_catalog ? shadows : lost;
}

struct PastState {
    const ShadowCopy* copy;
    std::string when;
    Volume place;
    MediumPtr content;
    std::unique_ptr<FileSystem> filesystem;
};

class LiveFiles final : public RecordSink {
  public:
    explicit LiveFiles(std::set<std::uint64_t>& seen) : seen_(seen) {}
    bool take(Record&& record) override {
        if (!record.is_folder && record.state == State::live) seen_.insert(VolumeScan::told_by(record));
        return true;
    }

  private:
    std::set<std::uint64_t>& seen_;
};

// The newest first.
std::vector<PastState> open_states(ScanSession& session, const Volume& place, const ShadowCopies& shadows,
                                   unsigned& number) {
    std::vector<PastState> states;
    for (auto copy = shadows.copies.rbegin(); copy != shadows.copies.rend(); ++copy) {
        PastState state{&*copy, copy->made ? short_time(*copy->made) : "unknown time", {}, nullptr, nullptr};
        state.place.number = number++;
        state.place.table = TableKind::container;
        state.place.pieces = on_medium(place, copy->pieces);
        // Two stores never begin in one place.
        state.place.offset = place.offset + copy->store;
        for (const Extent& piece : state.place.pieces) state.place.length += piece.length;
        state.place.type = "shadow copy";
        index_pieces(state.place);
        state.content = open_volume(session.medium, state.place);
        auto filesystem = open_filesystem(state.content);
        if (!filesystem || *filesystem == nullptr) {
            session.observer.warning(
                fmt::format("volume {}: the shadow copy of {} can't be read", place.number, state.when));
            continue;
        }
        state.filesystem = std::move(*filesystem);
        states.push_back(std::move(state));
    }
    return states;
}

}  // namespace

Result<bool> scan_shadow_volumes(ScanSession& session, const Volume& place, const MediumPtr& volume,
                                 const FileSystem& today, unsigned& number) {
    DREDGER_TRY(const auto row, session.known(place));
    if (!row || row->facts.filesystem != "NTFS") return true;
    DREDGER_TRY(const ShadowCopies shadows, shadows_of(session, *volume, *row));
    if (session.observer.should_stop()) return false;
    for (const std::string& warning : shadows.warnings)
        session.observer.warning(fmt::format("volume {}: {}", place.number, warning));
    if (shadows.copies.empty()) return true;
    VolumeScan::Told told;
    DREDGER_CHECK(learn_today(session.catalog, row->id, told));
    std::vector<PastState> states = open_states(session, place, shadows, number);
    WalkOptions live_only;
    live_only.live_only = true;
    live_only.go_on = [&](const char*, std::uint64_t, std::uint64_t) { return !session.observer.should_stop(); };
    for (const PastState& state : states) {
        LiveFiles live(told.live_in_a_state);
        std::vector<std::string> warnings;
        (void)state.filesystem->walk(live_only, live, warnings);
    }
    for (PastState& state : states) {
        if (session.observer.should_stop()) return false;
        VolumeScan scan(session);
        scan.is_state_of(
            today, {"shadow copy of " + state.when, state.copy->made, state.place.number, state.copy->is_whole, &told},
            *row);
        DREDGER_TRY(VolumeScan::Outcome outcome, scan.run(state.place, state.content, *state.filesystem));
        if (outcome.interrupted) return false;
        outcome.report.label += (outcome.report.label.empty() ? "as of " : " as of ") + state.when;
        session.report.volumes.push_back(outcome.report);
    }
    return true;
}

}  // namespace dredger
