#include "cli/chosen.h"

#include <fmt/format.h>

#include "catalog/attaching.h"
#include "cli/terminal.h"
#include "cli/words.h"
#include "media/content.h"

namespace dredger::cli {
namespace {

using Media = std::map<std::int64_t, MediumPtr>;

// Only these, or none at all.
void keep_only(Selection& selection, std::set<std::int64_t> ids) {
    if (ids.empty()) ids.insert(0);
    selection.only = std::move(ids);
}

Result<void> keep_containing(const Catalog& catalog, const std::string& text, const Media& media, Chosen& chosen) {
    ProgressLine line;
    DREDGER_TRY(const Totals all, catalog.totals(chosen.selection));
    const std::uint64_t count = all.files + all.folders;
    std::uint64_t looked_at = 0;
    std::set<std::int64_t> containing;
    DREDGER_CHECK(catalog.each(chosen.selection, Order{}, true, [&](const Candidate& c) {
        if (is_interrupted()) return false;
        line.show({"looking into files", ++looked_at, count, "files", containing.size(), {}});
        const auto medium = media.find(c.volume);
        if (c.record.is_folder || c.record.size == 0 || c.layout.empty() || medium == media.end()) return true;
        const auto content = open_content(medium->second, c.layout, c.record.size);
        if (auto passage = preview::passage_with(*content, c, text)) {
            containing.insert(c.id);
            chosen.passages[c.id] = std::move(*passage);
        }
        return true;
    }));
    line.clear();
    if (is_interrupted())
        warn(fmt::format("interrupted: {} of {} were looked into", count_text(looked_at), counted(count, "file")));
    keep_only(chosen.selection, std::move(containing));
    return {};
}

Result<void> keep_similar(Catalog& catalog, std::int64_t id, const Media& media, Chosen& chosen) {
    DREDGER_TRY(const auto wanted, catalog.find(id));
    if (!wanted)
        return fail(ErrorKind::usage, fmt::format("there is no find {}", id), catalog.path().string(),
                    "dredger list shows the IDs");
    TerminalObserver<Observer> observer;
    auto similar = similar_to(catalog, media, *wanted, chosen.selection, observer);
    observer.line().clear();
    if (!similar) return tl::unexpected<Error>(similar.error());
    if (is_interrupted()) warn("interrupted: not all pictures were looked at");
    chosen.similar = std::move(*similar);
    std::set<std::int64_t> ids;
    for (const Similar& one : chosen.similar) ids.insert(one.candidate);
    keep_only(chosen.selection, std::move(ids));
    return {};
}

}  // namespace

Result<Chosen> choose(Catalog& catalog, const SelectionOptions& options, const std::string& source) {
    Chosen chosen;
    DREDGER_TRY(chosen.selection, options.selection_for(catalog));
    if (!options.reads_content()) return chosen;
    catch_interrupts();
    DREDGER_TRY(const Attached attached, attach(catalog, {source, {}, false, false}));
    if (!options.contains.empty()) DREDGER_CHECK(keep_containing(catalog, options.contains, attached.media, chosen));
    if (options.similar) DREDGER_CHECK(keep_similar(catalog, *options.similar, attached.media, chosen));
    chosen.interrupted = is_interrupted();
    return chosen;
}

Result<void> keep_first(const Catalog& catalog, const SelectionOptions& options, Selection& selection,
                        std::uint64_t& left) {
    if (!options.limit) return {};
    std::set<std::int64_t> first;
    if (left > 0)
        DREDGER_CHECK(catalog.each(selection, options.order(), false,
                                   [&](const Candidate& c) {
                                       first.insert(c.id);
                                       return true;
                                   },
                                   {0, left}));
    left -= first.size();
    keep_only(selection, std::move(first));
    return {};
}

Result<Selection> choose_first(Catalog& catalog, const SelectionOptions& options, const std::string& source,
                               std::uint64_t& left) {
    DREDGER_TRY(Chosen chosen, choose(catalog, options, source));
    if (chosen.interrupted) return fail(ErrorKind::interrupted, "interrupted before anything was done with the finds");
    DREDGER_CHECK(keep_first(catalog, options, chosen.selection, left));
    return std::move(chosen.selection);
}

Result<Selection> choose_first(Catalog& catalog, const SelectionOptions& options, const std::string& source) {
    std::uint64_t left = options.limit.value_or(0);
    return choose_first(catalog, options, source, left);
}

}  // namespace dredger::cli
