#include "preview/preview.h"

#include <fmt/format.h>

#include "base/beneath.h"
#include "base/text.h"
#include "base/whole_file.h"
#include "checking/checking.h"
#include "media/content.h"
#include "preview/page.h"
#include "preview/sheets.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

Result<void> make_folders(const fs::path& folder) {
    std::error_code failed;
    for (const char* part : {"tiles", "clips", "pages", "messages", "texts", "sheets"}) {
        DREDGER_CHECK(refuse_link(folder / part));
        fs::create_directories(folder / part, failed);
        if (failed)
            return fail(ErrorKind::output, "the folder for previews can't be made: " + failed.message(),
                        folder.string(), "choose a folder that is yours");
    }
    return {};
}

}  // namespace

Result<PreviewReport> make_previews(Catalog& catalog, const PreviewRequest& request, Observer& observer) {
    const fs::path& folder = request.attach.destination;
    PreviewReport report;
    std::vector<preview::Shown> shown;
    std::set<std::int64_t> volumes;
    // Copies are one card.
    DREDGER_TRY(const Catalog::Copies copies, catalog.copies(request.selection, request.order));
    report.copies = copies.further.size();
    Selection cards = request.selection;
    cards.without.insert(copies.further.begin(), copies.further.end());
    DREDGER_TRY(const auto all_volumes, catalog.volumes());
    std::map<std::int64_t, std::string> names;
    if (all_volumes.size() > 1)
        for (const ScannedVolume& volume : all_volumes) names[volume.id] = printable(name_of_volume(volume));
    DREDGER_CHECK(
        catalog.each(cards, request.order, true,
                     [&](const Candidate& c) {
                         if (c.record.is_folder) return true;
                         volumes.insert(c.volume);
                         const auto same = copies.count.find(c.id);
                         shown.push_back({c, {}, names[c.volume], same == copies.count.end() ? 0 : same->second});
                         return true;
                     },
                     {0, request.most}));
    report.files = shown.size();
    if (shown.empty()) return report;
    DREDGER_TRY(const Attached attached, attach(catalog, volumes, request.attach));
    for (const std::string& remark : attached.remarks) observer.warning(remark);
    DREDGER_CHECK(make_folders(folder));

    std::vector<Learnt> learnt;
    std::size_t done = 0;
    for (preview::Shown& one : shown) {
        observer.progress({"looking at finds", done, shown.size(), "files", report.pictures});
        if (observer.should_stop()) {
            report.interrupted = true;
            break;
        }
        ++done;
        const auto medium = attached.media.find(one.candidate.volume);
        Candidate& candidate = one.candidate;
        const FileEntry& record = candidate.record;
        if (medium == attached.media.end() || candidate.layout.empty() || record.size == 0) continue;
        const bool was_known = !can_be_checked(candidate) && candidate.likeness.has_value();
        check_content(medium->second, candidate);
        const auto content = open_content(medium->second, candidate.layout, record.size);
        one.tile = preview::make_tile(*content, candidate, folder);
        candidate.likeness = one.tile.likeness;
        if (!was_known) learnt.push_back(candidate);
        report.pictures += one.tile.has_picture ? 1 : 0;
        report.failed += one.tile.failed ? 1 : 0;
        if (!one.tile.text.empty())
            DREDGER_CHECK(write_over(folder / "texts" / (std::to_string(one.candidate.id) + ".txt"), one.tile.text));
    }
    catalog.keep(learnt);
    report.looked_at = done;
    report.sheets = preview::write_sheets(shown, folder);
    report.page = folder / "index.html";
    DREDGER_TRY(const std::string uuid, catalog.uuid());
    DREDGER_CHECK(write_over(report.page, preview::page_of(shown, {catalog.path().filename().string(), uuid, done})));
    return report;
}

}  // namespace dredger
