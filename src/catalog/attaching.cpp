#include "catalog/attaching.h"

#include <algorithm>
#include <fmt/format.h>

#include "media/drives.h"
#include "media/opened.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

Result<MediumPtr> open_source(const ScannedSource& source, const AttachRequest& request,
                              std::vector<std::string>& remarks) {
    const fs::path place = request.source.empty() ? fs::path(source.path) : request.source;
    auto opened = open_medium(place);
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
    if (!comparison.finding.empty()) remarks.push_back(fmt::format("{}: {}", place.string(), comparison.finding));
    const std::string danger =
        request.destination.empty() ? std::string() : writing_endangers(request.destination, opened->files);
    if (!danger.empty()) {
        if (!request.onto_same_drive)
            return fail(ErrorKind::unsafe, "writing here could destroy what is to be restored: " + danger,
                        request.destination.string(), "write to another drive, or spell out --onto-same-drive");
        remarks.push_back(
            fmt::format("{}: {}; overridden with --onto-same-drive", request.destination.string(), danger));
    }
    if (!comparison.same)
        remarks.push_back(
            fmt::format("{}: not the medium that was scanned; overridden with --from-changed-source", place.string()));
    return opened->medium;
}

}  // namespace

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
            DREDGER_TRY(opened[source->id], open_source(*source, request, attached.remarks));
        }
        attached.media[volume.id] = opened[source->id];
    }
    return attached;
}

}  // namespace dredger
