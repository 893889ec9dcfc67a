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
#include "scanning/told_finds.h"
#include "scanning/volume_scan.h"
#include "scanning/volumes_of.h"
#include "volumes/containers.h"
#include "volumes/mapping.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

Result<void> refuse_catalogs(const Medium& medium) {
    const auto head = medium.size() >= 16 ? medium.bytes(0, 16) : Result<std::vector<std::byte>>();
    if (head && ByteView(*head).has(0, std::string_view("SQLite format 3\0", 16)))
        return fail(ErrorKind::not_understood, "this is a catalog or another database, not a medium", medium.name(),
                    "dredger list shows what a catalog holds");
    return {};
}

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

Result<ScannedVolume> row_for(Catalog& catalog, std::int64_t source, const Volume& place) {
    DREDGER_TRY(const auto known, catalog.volumes());
    if (const ScannedVolume* row = row_of(known, source, place)) return *row;
    ScannedVolume row;
    row.source = source;
    row.place = place;
    row.facts.size = place.length;
    DREDGER_TRY(row.id, catalog.add_volume(row));
    DREDGER_CHECK(catalog.finish_volume(row));
    return row;
}

// The deep scan of each stretch, in the order of their places.
Result<void> scan_deep(Catalog& catalog, const ScanRequest& request, Observer& observer, const MediumPtr& medium,
                       std::int64_t source, std::vector<Stretch>& stretches, std::vector<VolumeTrace>& traces,
                       Fingerprints& seen, ScanReport& report) {
    std::sort(stretches.begin(), stretches.end(),
              [](const Stretch& a, const Stretch& b) { return a.place.offset < b.place.offset; });
    WantedFinds wanted(request.until_name, request.until_count);
    for (Stretch& stretch : stretches) {
        DREDGER_TRY(report.is_over, wanted.is_over(catalog));
        if (report.is_over) break;
        DREDGER_TRY(const ScannedVolume row, row_for(catalog, source, stretch.place));
        if (request.deep && !row.map_is_trusted && !request.whole_surface) {
            observer.warning(fmt::format(
                "volume {}: live files lie where its space map shows free clusters, so all of it is searched",
                stretch.place.number));
            stretch.ground = on_medium(stretch.place, {{0, stretch.place.length}});
        }
        DREDGER_TRY(DeepScan::Outcome outcome, DeepScan(catalog, request, wanted, observer).run(medium, row, stretch.ground));
        report.surfaces.push_back(outcome.report);
        seen.merge(outcome.fingerprints);
        traces.insert(traces.end(), outcome.traces.begin(), outcome.traces.end());
        if (!outcome.stopped) continue;
        report.is_over = !observer.should_stop();
        report.interrupted = !report.is_over;
        break;
    }
    return {};
}

Result<ScanReport> scan_medium(Catalog& catalog, const ScanRequest& request, Observer& observer,
                               const MediumPtr& medium, std::int64_t source) {
    DREDGER_TRY(auto volumes, volumes_of(medium, observer));
    ScanReport report;
    if (!volumes) {
        report.interrupted = true;
        return report;
    }
    PartitionMap& map = *volumes;
    for (const std::string& warning : map.warnings) observer.warning(warning);
    DREDGER_TRY(const auto known, catalog.volumes());

    std::vector<Stretch> stretches;
    std::set<unsigned> missing = request.volumes;
    std::optional<Error> damaged;
    unsigned next_number = 1;
    for (const Volume& volume : map.volumes) next_number = std::max(next_number, volume.number + 1);
    std::vector<Volume> former;
    for (const Volume& place : map.volumes) {
        missing.erase(place.number);
        if (!request.volumes.empty() && !request.volumes.contains(place.number)) continue;
        if (observer.should_stop()) {
            report.interrupted = true;
            break;
        }
        // What it holds are volumes of their own.
        if (place.is_container()) continue;
        const MediumPtr volume = open_volume(medium, place);
        const auto opened = place.holds.empty() ? open_or_infer(volume) : open_filesystem(volume);
        if (!opened) {
            // It costs this volume, not the others.
            observer.warning(fmt::format("volume {}: {}", place.number, opened.error().line()));
            if (!damaged) damaged = opened.error();
        }
        Stretch stretch{place, on_medium(place, {{0, place.length}})};
        if (!opened || !*opened) {
            report.volumes.emplace_back().number = place.number;
            stretches.push_back(std::move(stretch));
            continue;
        }
        const FileSystem& filesystem = **opened;
        const ScannedVolume* before = row_of(known, source, place);
        DREDGER_TRY(const VolumeScan::Outcome outcome,
                    VolumeScan(catalog, request, observer).run(source, place, volume, filesystem, before));
        report.volumes.push_back(outcome.report);
        if (!request.whole_surface) stretch.ground = on_medium(place, filesystem.space().free_runs());
        stretch.has_records = true;
        stretches.push_back(std::move(stretch));
        if (outcome.interrupted) {
            report.interrupted = true;
            break;
        }
        DREDGER_TRY(const bool is_done, scan_former_volumes(catalog, request, observer, source, place, volume,
                                                            filesystem, next_number, former, report));
        if (!is_done) {
            report.interrupted = true;
            break;
        }
    }
    for (const Volume& lost : former) {
        missing.erase(lost.number);
        Stretch stretch{lost, {}};
        stretch.has_records = true;
        stretches.push_back(std::move(stretch));
        map.volumes.push_back(lost);
    }
    if (!missing.empty())
        return fail(ErrorKind::usage, fmt::format("there is no volume {}", *missing.begin()), medium->name(),
                    "dredger survey lists the volumes with their numbers");
    const bool understood = std::any_of(report.volumes.begin(), report.volumes.end(),
                                        [](const VolumeReport& v) { return !v.filesystem.empty(); });
    if ((request.deep || (request.verify && understood)) && !report.interrupted) {
        if (!request.deep)
            std::erase_if(stretches, [](const Stretch& s) { return !s.has_records; });
        else if (request.volumes.empty())
            for (Stretch& gap : gaps_between(map, medium->size())) stretches.push_back(std::move(gap));
        std::vector<VolumeTrace> traces;
        Fingerprints seen;
        DREDGER_CHECK(scan_deep(catalog, request, observer, medium, source, stretches, traces, seen, report));
        if (report.interrupted || report.is_over) return report;
        DREDGER_TRY(const auto scanned, catalog.volumes());
        for (const Volume& lost : former)
            if (const ScannedVolume* row = row_of(scanned, source, lost)) {
                DREDGER_TRY(const std::uint64_t told, remove_finds_told_by(catalog, *row));
                count_as_told(told, lost.offset, report);
            }
        if (request.volumes.empty()) {
            DREDGER_TRY(const bool done,
                        scan_late_volumes(catalog, request, observer, medium, source, std::move(traces), map, report));
            report.interrupted = !done;
            if (!done) return report;
        }
        DREDGER_TRY(const bool compared, compare_contents(catalog, source, medium, seen, observer));
        report.interrupted = !compared;
        return report;
    }
    if (!understood && damaged) return tl::unexpected<Error>(*damaged);
    if (!understood && !report.interrupted)
        return fail(ErrorKind::not_understood, "no file system that is known was found", medium->name(),
                    "dredger scan --deep finds files by their content");
    return report;
}

}  // namespace

Result<ScanReport> scan(Catalog& catalog, const ScanRequest& request, Observer& observer) {
    DREDGER_TRY(const OpenedMedium opened, open_medium(request.source));
    return scan(catalog, opened, request, observer);
}

Result<ScanReport> scan(Catalog& catalog, const OpenedMedium& opened, const ScanRequest& request, Observer& observer) {
    DREDGER_CHECK(refuse_catalogs(*opened.medium));
    for (const std::string& remark : opened.remarks) observer.warning(remark);
    DREDGER_TRY(const std::int64_t source, source_row(catalog, opened, observer));
    DREDGER_TRY(const auto known_bad, catalog.bad_areas(source));
    const auto medium = std::make_shared<const Sparing>(opened.medium, known_bad);
    auto report = scan_medium(catalog, request, observer, medium, source);
    // Also after an error: what was asked for in vain is not asked for again.
    if (auto counted = count_bad_areas(catalog, source, *medium, observer); !counted && report)
        return tl::unexpected<Error>(counted.error());
    return report;
}

}  // namespace dredger
