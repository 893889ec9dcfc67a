#include "scanning/scan.h"

#include <algorithm>
#include <fmt/format.h>

#include "media/drives.h"
#include "media/file_medium.h"
#include "media/window.h"
#include "scanning/volume_scan.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

Result<void> refuse_catalogs(const FileMedium& medium) {
    const auto head = medium.size() >= 16 ? medium.bytes(0, 16) : Result<std::vector<std::byte>>();
    if (head && ByteView(*head).has(0, std::string_view("SQLite format 3\0", 16)))
        return fail(ErrorKind::not_understood, "this is a catalog or another database, not a medium", medium.name(),
                    "dredger list shows what a catalog holds");
    return {};
}

// The source's row in the catalog: the one it has, or a new one.
Result<std::int64_t> source_row(Catalog& catalog, const FileMedium& medium, Observer& observer) {
    DREDGER_TRY(Identity identity, identify(medium));
    DREDGER_TRY(const auto known, catalog.sources());
    const std::string path = fs::absolute(medium.path()).lexically_normal().string();
    for (const ScannedSource& source : known) {
        if (source.path != path) continue;
        const Comparison comparison = compare(source.identity, identity);
        if (!comparison.same)
            return fail(ErrorKind::unsafe, "the catalog was made from another medium at this place", medium.name(),
                        comparison.finding + "; give another name after -c");
        if (!comparison.finding.empty()) observer.warning(comparison.finding);
        return source.id;
    }
    return catalog.add_source({0, path, std::move(identity)});
}

const ScannedVolume* find(const std::vector<ScannedVolume>& list, std::int64_t source, const Volume& place) {
    const auto found = std::find_if(list.begin(), list.end(), [&](const ScannedVolume& v) {
        return v.source == source && v.place.offset == place.offset;
    });
    return found == list.end() ? nullptr : &*found;
}

}  // namespace

Result<ScanReport> scan(Catalog& catalog, const ScanRequest& request, Observer& observer) {
    DREDGER_TRY(const std::shared_ptr<const FileMedium> medium, FileMedium::open(request.source));
    DREDGER_CHECK(refuse_catalogs(*medium));
    DREDGER_TRY(const std::int64_t source, source_row(catalog, *medium, observer));
    DREDGER_TRY(const PartitionMap map, read_partition_map(*medium));
    for (const std::string& warning : map.warnings) observer.warning(warning);
    DREDGER_TRY(const auto known, catalog.volumes());

    ScanReport report;
    std::set<unsigned> missing = request.volumes;
    std::optional<Error> damaged;
    for (const Volume& place : map.volumes) {
        missing.erase(place.number);
        if (!request.volumes.empty() && !request.volumes.contains(place.number)) continue;
        if (observer.should_stop()) {
            report.interrupted = true;
            break;
        }
        const MediumPtr volume = std::make_shared<Window>(medium, place.offset, place.length);
        const auto opened = open_filesystem(volume);
        if (!opened) {
            // It costs this volume, not the others.
            observer.warning(fmt::format("volume {}: {}", place.number, opened.error().line()));
            if (!damaged) damaged = opened.error();
        }
        if (!opened || !*opened) {
            report.volumes.emplace_back().number = place.number;
            continue;
        }
        const FileSystem& filesystem = **opened;
        const ScannedVolume* before = find(known, source, place);
        DREDGER_TRY(const VolumeScan::Outcome outcome,
                    VolumeScan(catalog, request, observer).run(source, place, volume, filesystem, before));
        report.volumes.push_back(outcome.report);
        if (outcome.interrupted) {
            report.interrupted = true;
            break;
        }
    }
    if (!missing.empty())
        return fail(ErrorKind::usage, fmt::format("there is no volume {}", *missing.begin()), medium->name(),
                    "dredger survey lists the volumes with their numbers");
    const bool understood = std::any_of(report.volumes.begin(), report.volumes.end(),
                                        [](const VolumeReport& v) { return !v.filesystem.empty(); });
    if (!understood && damaged) return tl::unexpected<Error>(*damaged);
    if (!understood && !report.interrupted)
        return fail(ErrorKind::not_understood, "no file system that is known was found", medium->name(),
                    "dredger survey shows what is there");
    return report;
}

}  // namespace dredger
