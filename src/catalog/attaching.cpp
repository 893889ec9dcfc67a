#include "catalog/attaching.h"

#include <algorithm>
#include <fmt/format.h>

#include "media/drives.h"
#include "media/opened.h"
#include "stores/store.h"
#include "volumes/mapping.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

// The medium that was scanned, at this place.
Result<OpenedMedium> recognised_at(const fs::path& place, const ScannedSource& source, const AttachRequest& request,
                                   std::vector<std::string>& remarks) {
    auto opened = open_medium(place, Folders::as_archive);
    if (!opened) {
        Error error = opened.error();
        error.hint = "attach the medium that was scanned, or tell where it is now: --source PATH";
        return tl::unexpected<Error>(error);
    }
    DREDGER_TRY(const Identity identity, identify(*opened));
    const Comparison comparison = compare(source.identity, identity);
    if (!comparison.same && !request.from_changed_source)
        return fail(ErrorKind::unsafe, "this is not the medium that was scanned", place.string(),
                    comparison.finding + "; attach the right one, or spell out --from-changed-source");
    for (const std::string& remark : opened->remarks) remarks.push_back(fmt::format("{}: {}", place.string(), remark));
    if (!comparison.finding.empty()) remarks.push_back(fmt::format("{}: {}", place.string(), comparison.finding));
    if (!comparison.same)
        remarks.push_back(
            fmt::format("{}: not the medium that was scanned; overridden with --from-changed-source", place.string()));
    return opened;
}

// Null where it is missing and the work shall go on without it.
Result<MediumPtr> open_source(const ScannedSource& source, const AttachRequest& request, Attached& attached) {
    fs::path place = request.source.empty() ? fs::path(source.path) : request.source;
    auto opened = recognised_at(place, source, request, attached.remarks);
    while (!opened && request.missing) {
        const auto elsewhere = request.missing(source, opened.error());
        if (!elsewhere) {
            if (!attached.first_missing) attached.first_missing = opened.error();
            return nullptr;
        }
        if (!elsewhere->empty()) place = *elsewhere;
        opened = recognised_at(place, source, request, attached.remarks);
    }
    if (!opened) return tl::unexpected<Error>(opened.error());
    std::vector<fs::path> destinations = request.further_destinations;
    destinations.insert(destinations.begin(), request.destination);
    for (const fs::path& destination : destinations) {
        const auto safe = refuse_danger(destination, opened->files);
        if (safe) continue;
        if (!request.onto_same_drive) return tl::unexpected<Error>(safe.error());
        attached.remarks.push_back(
            fmt::format("{}: {}; overridden with --onto-same-drive", destination.string(), safe.error().what));
    }
    return opened->medium;
}

// What the layouts of a volume's candidates are read through: the medium, or that with what a mail store on it
// composes.
Result<MediumPtr> content_of(const MediumPtr& medium, const ScannedVolume& volume) {
    if (medium == nullptr || !is_store(volume.facts)) return medium;
    DREDGER_TRY(std::unique_ptr<MailStore> store,
                open_store(open_volume(medium, volume.place), format_of_store(volume.facts)));
    return store ? with_composed(medium, std::move(store)) : medium;
}

}  // namespace

Result<void> refuse_danger(const fs::path& destination, const std::vector<fs::path>& files) {
    const std::string danger = destination.empty() ? std::string() : writing_endangers(destination, files);
    if (danger.empty()) return {};
    return fail(ErrorKind::unsafe, "writing here could destroy what is to be found or restored: " + danger,
                destination.string(), "write to another drive, or spell out --onto-same-drive");
}

Result<void> refuse_danger(const fs::path& destination, const Catalog& catalog) {
    DREDGER_TRY(const auto sources, catalog.sources());
    std::vector<fs::path> files;
    for (const ScannedSource& source : sources) files.emplace_back(source.path);
    return refuse_danger(destination, files);
}

Result<Attached> attach(const Catalog& catalog, const std::set<std::int64_t>& volumes, const AttachRequest& request) {
    DREDGER_TRY(const auto sources, catalog.sources());
    DREDGER_TRY(const auto all_volumes, catalog.volumes());
    Attached attached;
    std::map<std::int64_t, MediumPtr> opened;  // by source
    for (const ScannedVolume& volume : all_volumes) {
        if (!volumes.contains(volume.id)) continue;
        const auto source =
            std::find_if(sources.begin(), sources.end(), [&](const auto& s) { return s.id == volume.source; });
        if (source == sources.end()) continue;
        if (!opened.contains(source->id)) {
            DREDGER_TRY(opened[source->id], open_source(*source, request, attached));
        }
        DREDGER_TRY(MediumPtr medium, content_of(opened[source->id], volume));
        if (medium) attached.media[volume.id] = std::move(medium);
    }
    return attached;
}

Result<Attached> attach(const Catalog& catalog, const AttachRequest& request) {
    DREDGER_TRY(const auto volumes, catalog.volumes());
    std::set<std::int64_t> all;
    for (const ScannedVolume& volume : volumes) all.insert(volume.id);
    return attach(catalog, all, request);
}

Result<Coverage> unreadable_of(const Catalog& catalog, std::int64_t source, const MediumPtr& medium) {
    DREDGER_TRY(std::vector<Extent> bad, catalog.bad_areas(source));
    if (medium != nullptr) medium->add_known_bad(0, medium->size(), bad);
    return Coverage(bad);
}

}  // namespace dredger
