#include "scanning/scan.h"

#include <algorithm>
#include <fmt/format.h>

#include "media/drives.h"
#include "media/sparing.h"
#include "scanning/bad_areas.h"
#include "scanning/comparing.h"
#include "scanning/deep_scan.h"
#include "scanning/former_volumes.h"
#include "scanning/late_volumes.h"
#include "scanning/mail_stores.h"
#include "scanning/shadow_volumes.h"
#include "scanning/telling_copies.h"
#include "scanning/told_finds.h"
#include "scanning/volume_scan.h"
#include "scanning/volumes_of.h"
#include "volumes/mapping.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

Result<void> refuse_catalogs(const OpenedMedium& opened) {
    const Medium& medium = *opened.medium;
    const auto head = medium.size() >= 16 ? medium.bytes(0, 16) : Result<std::vector<std::byte>>();
    if (!head || !ByteView(*head).has(0, std::string_view("SQLite format 3\0", 16))) return {};
    DREDGER_TRY(const auto book, store_on(opened, opened.medium));
    if (book) return {};
    return fail(ErrorKind::not_understood, "this is a catalog or another database, not a medium", medium.name(),
                "dredger list shows what a catalog holds");
}

// Stops the work also when its medium has gone.
class WhileItIsThere final : public Observer {
  public:
    WhileItIsThere(Observer& observer, const Sparing& medium) : observer_(observer), medium_(medium) {}
    void progress(const Progress& progress) override { observer_.progress(progress); }
    void warning(const std::string& sentence) override { observer_.warning(sentence); }
    bool should_stop() override { return medium_.has_gone() || observer_.should_stop(); }

  private:
    Observer& observer_;
    const Sparing& medium_;
};

// The source's row in the catalog: the one it has, or a new one.
Result<std::int64_t> source_row(Catalog& catalog, const OpenedMedium& opened, Observer& observer) {
    DREDGER_TRY(Identity identity, identify(opened));
    DREDGER_TRY(const auto known, catalog.sources());
    const std::string path = fs::absolute(opened.path).lexically_normal().string();
    for (const ScannedSource& source : known) {
        if (source.path != path) continue;
        const Comparison comparison = compare(source.identity, identity);
        if (!comparison.same)
            return fail(ErrorKind::unsafe, "the catalog was made from another medium at this place", path,
                        comparison.finding + "; give another name after -c");
        if (!comparison.finding.empty()) observer.warning(comparison.finding);
        return source.id;
    }
    return catalog.add_source({0, path, std::move(identity)});
}

// A part of the medium that the deep scan searches by itself.
struct Stretch {
    Volume place;
    std::vector<Extent> ground;  // on the medium
    bool has_records = false;
    std::shared_ptr<const FileSystem> filesystem = nullptr;  // where one was opened
};

// What lies outside of all volumes.
std::vector<Stretch> gaps_between(const PartitionMap& map, std::uint64_t size) {
    std::vector<Volume> volumes;
    for (const Volume& volume : map.volumes) {
        if (volume.is_container()) continue;
        if (volume.pieces.empty()) volumes.push_back(volume);
        for (const Extent& piece : volume.pieces) {
            volumes.push_back(volume);
            volumes.back().offset = piece.offset;
            volumes.back().length = piece.length;
        }
    }
    std::sort(volumes.begin(), volumes.end(), [](const Volume& a, const Volume& b) { return a.offset < b.offset; });
    std::vector<Stretch> gaps;
    std::uint64_t reached = 0;
    const auto add = [&](std::uint64_t end) {
        if (end <= reached) return;
        Stretch gap;
        gap.place.offset = reached;
        gap.place.length = end - reached;
        gap.ground = {{reached, end - reached}};
        gaps.push_back(std::move(gap));
    };
    for (const Volume& volume : volumes) {
        add(volume.offset);
        reached = std::max(reached, volume.offset + volume.length);
    }
    add(size);
    return gaps;
}

Result<ScannedVolume> row_for(ScanSession& session, const Volume& place) {
    DREDGER_TRY(const auto known, session.known(place));
    if (known) return *known;
    ScannedVolume row;
    row.source = session.source;
    row.place = place;
    row.facts.size = place.length;
    DREDGER_TRY(row.id, session.catalog.add_volume(row));
    DREDGER_CHECK(session.catalog.finish_volume(row));
    return row;
}

// What the search of the surface saw on its way.
struct Seen {
    std::vector<VolumeTrace> traces;
    Fingerprints fingerprints;
};

// All that there is to do is written down before the first of it is done.
Result<std::vector<ScannedVolume>> plan_stretches(ScanSession& session, std::vector<Stretch>& stretches) {
    std::sort(stretches.begin(), stretches.end(),
              [](const Stretch& a, const Stretch& b) { return a.place.offset < b.place.offset; });
    std::vector<ScannedVolume> rows;
    for (Stretch& stretch : stretches) {
        DREDGER_TRY(ScannedVolume row, row_for(session, stretch.place));
        if (session.request.deep && !row.map_is_trusted && !session.request.whole_surface) {
            session.observer.warning(fmt::format(
                "volume {}: live files lie where its space map shows free clusters, so all of it is searched",
                stretch.place.number));
            stretch.ground = on_medium(stretch.place, std::vector<Extent>{{0, stretch.place.length}});
        }
        DREDGER_CHECK(DeepScan(session).plan(row, stretch.ground));
        rows.push_back(std::move(row));
    }
    return rows;
}

// The deep scan of each stretch, in the order of their places.
Result<void> search_stretches(ScanSession& session, std::vector<Stretch>& stretches, Seen& seen) {
    ScanReport& report = session.report;
    DREDGER_TRY(const std::vector<ScannedVolume> rows, plan_stretches(session, stretches));
    for (std::size_t n = 0; n < rows.size(); ++n) {
        DREDGER_TRY(report.is_over, session.wanted.is_over(session.catalog));
        if (report.is_over) break;
        DREDGER_TRY(DeepScan::Outcome outcome, DeepScan(session).run(rows[n], stretches[n].filesystem.get()));
        report.surfaces.push_back(outcome.report);
        seen.fingerprints.merge(outcome.fingerprints);
        seen.traces.insert(seen.traces.end(), outcome.traces.begin(), outcome.traces.end());
        if (!outcome.stopped) continue;
        report.is_over = !session.observer.should_stop();
        report.interrupted = !report.is_over;
        break;
    }
    return {};
}

// The records of all volumes that were asked for.
class RecordScan {
  public:
    RecordScan(ScanSession& session, VolumesOfMedium& volumes) : session_(session), volumes_(volumes) {}

    std::vector<Stretch> stretches;  // that are left to be searched
    std::vector<Volume> former;      // what volumes held before they were formatted
    std::optional<Error> damaged;    // why the first of those that can't be opened can't

    Result<void> run() {
        std::set<unsigned> missing = session_.request.volumes;
        unsigned next_number = 1;
        for (const Volume& volume : volumes_.map().volumes) next_number = std::max(next_number, volume.number + 1);
        for (const Volume& place : volumes_.map().volumes) {
            missing.erase(place.number);
            if (!session_.request.volumes.empty() && !session_.request.volumes.contains(place.number)) continue;
            session_.report.interrupted = session_.observer.should_stop();
            // What a container holds are volumes of their own.
            if (!session_.report.interrupted && !place.is_container()) DREDGER_CHECK(scan_volume(place, next_number));
            if (session_.report.interrupted) break;
        }
        for (const Volume& lost : former) {
            missing.erase(lost.number);
            stretches.push_back({lost, {}, true});
            volumes_.map().volumes.push_back(lost);
        }
        if (missing.empty()) return {};
        return fail(ErrorKind::usage, fmt::format("there is no volume {}", *missing.begin()), session_.medium->name(),
                    "dredger survey lists the volumes with their numbers");
    }

  private:
    Result<void> scan_volume(const Volume& place, unsigned next_number) {
        const auto& opened = volumes_.filesystem(place);
        if (!opened) {
            // It costs this volume, not the others.
            session_.observer.warning(fmt::format("volume {}: {}", place.number, opened.error().line()));
            if (!damaged) damaged = opened.error();
        }
        Stretch stretch{place, on_medium(place, std::vector<Extent>{{0, place.length}})};
        if (!opened || !*opened) {
            session_.report.volumes.emplace_back().number = place.number;
            stretches.push_back(std::move(stretch));
            return {};
        }
        const FileSystem& filesystem = **opened;
        const MediumPtr volume = open_volume(session_.medium, place);
        DREDGER_TRY(const VolumeScan::Outcome outcome, VolumeScan(session_).run(place, volume, filesystem));
        session_.report.volumes.push_back(outcome.report);
        if (!session_.request.whole_surface) stretch.ground = on_medium(place, filesystem.space().free_runs());
        stretch.has_records = true;
        stretch.filesystem = *opened;
        stretches.push_back(std::move(stretch));
        session_.report.interrupted = outcome.interrupted;
        if (outcome.interrupted) return {};
        if (session_.request.snapshots) {
            unsigned number = next_number + static_cast<unsigned>(former.size()) + shadows_;
            const unsigned first = number;
            DREDGER_TRY(const bool told, scan_shadow_volumes(session_, place, volume, filesystem, number));
            shadows_ += number - first;
            session_.report.interrupted = !told;
            if (!told) return {};
        }
        next_number += shadows_;
        DREDGER_TRY(const bool is_done, scan_former_volumes(session_, place, volume, filesystem, next_number, former));
        session_.report.interrupted = !is_done;
        return {};
    }

    ScanSession& session_;
    VolumesOfMedium& volumes_;
    unsigned shadows_ = 0;  // copies that were numbered so far
};

// The content of what was found, and of what no record tells of.
Result<void> look_into_content(ScanSession& session, RecordScan& records, PartitionMap& map) {
    const ScanRequest& request = session.request;
    ScanReport& report = session.report;
    if (!request.deep)
        std::erase_if(records.stretches, [](const Stretch& s) { return !s.has_records; });
    else if (request.volumes.empty())
        for (Stretch& gap : gaps_between(map, session.medium->size())) records.stretches.push_back(std::move(gap));
    Seen seen;
    DREDGER_CHECK(search_stretches(session, records.stretches, seen));
    if (report.interrupted || report.is_over) return {};
    for (const Volume& lost : records.former) {
        DREDGER_TRY(const auto row, session.known(lost));
        if (!row) continue;
        DREDGER_TRY(const std::uint64_t told, remove_finds_told_by(session.catalog, *row));
        count_as_told(told, lost.offset, report);
    }
    if (request.volumes.empty()) {
        DREDGER_TRY(const bool done, scan_late_volumes(session, std::move(seen.traces), map));
        report.interrupted = !done;
        if (!done) return {};
    }
    DREDGER_TRY(const bool compared,
                compare_contents(session.catalog, session.source, session.medium, seen.fingerprints, session.observer));
    report.interrupted = !compared;
    return {};
}

Result<void> scan_medium(ScanSession& session) {
    DREDGER_TRY(auto volumes, VolumesOfMedium::find(session.medium, session.observer));
    session.report.interrupted = !volumes;
    if (!volumes) return {};
    for (const std::string& warning : volumes->map().warnings) session.observer.warning(warning);
    RecordScan records(session, *volumes);
    DREDGER_CHECK(records.run());
    if (session.report.interrupted) return {};
    const bool understood = std::any_of(session.report.volumes.begin(), session.report.volumes.end(),
                                        [](const VolumeReport& v) { return !v.filesystem.empty(); });
    if (session.request.deep || (session.request.verify && understood))
        return look_into_content(session, records, volumes->map());
    if (!understood && records.damaged) return tl::unexpected<Error>(*records.damaged);
    if (!understood)
        return fail(ErrorKind::not_understood, "no file system that is known was found", session.medium->name(),
                    "dredger scan --deep finds files by their content");
    return {};
}

Result<void> scan_all_of(ScanSession& session, const OpenedMedium& opened) {
    ScanReport& report = session.report;
    DREDGER_TRY(const auto store, store_on(opened, session.medium));
    if (store) return scan_store(session, store);
    DREDGER_CHECK(scan_medium(session));
    if (session.request.mail && !report.interrupted && !report.is_over) {
        DREDGER_TRY(const bool read, scan_stores_in_finds(session));
        report.interrupted = !read;
    }
    if (report.interrupted) return {};
    const lives::Habits habits(session.request.own_habits);
    DREDGER_TRY(const bool told,
                tell_copies(session.catalog, session.source, session.medium, habits, session.observer));
    report.interrupted = !told;
    return {};
}

}  // namespace

Result<ScanReport> scan(Catalog& catalog, const ScanRequest& request, Observer& observer) {
    DREDGER_TRY(const OpenedMedium opened, open_medium(request.source, Folders::as_archive));
    return scan(catalog, opened, request, observer);
}

Result<ScanReport> scan(Catalog& catalog, const OpenedMedium& opened, const ScanRequest& request, Observer& observer) {
    DREDGER_CHECK(refuse_catalogs(opened));
    for (const std::string& remark : opened.remarks) observer.warning(remark);
    DREDGER_TRY(const std::int64_t source, source_row(catalog, opened, observer));
    DREDGER_TRY(const Coverage answering, ask_again(catalog, source, *opened.medium, request.again));
    DREDGER_TRY(const auto known_bad, catalog.bad_areas(source));
    const auto medium =
        std::make_shared<const Sparing>(opened.medium, known_bad, request.again ? Sparing::kFineStep : Sparing::kStep);
    // What was read since the medium went is not kept: it is as if the scan had ended before.
    catalog.keep_only_if([medium] { return medium->check_presence(); });
    WhileItIsThere watching(observer, *medium);
    ScanSession session{catalog, request, watching, medium, source};
    auto scanned = scan_all_of(session, opened);
    if (!scanned) catalog.roll_back();
    const auto present = medium->check_presence();
    catalog.keep_only_if({});
    // Also after an error: what was asked for in vain is not asked for again.
    const auto unreadable = count_bad_areas(catalog, source, *medium, observer);
    if (!present) return tl::unexpected<Error>(present.error());
    if (!scanned) return tl::unexpected<Error>(scanned.error());
    if (!unreadable) return tl::unexpected<Error>(unreadable.error());
    session.report.unreadable = unreadable->bytes();
    session.report.answered_anew = answering.without(*unreadable).bytes();
    return std::move(session.report);
}

}  // namespace dredger
