#include "restoring/deed.h"

#include "base/text.h"
#include "checking/checking.h"
#include "lives/vim_swap.h"
#include "media/content.h"

namespace dredger {

Description described(const MediumPtr& medium, const Candidate& c, Budget::Stop stop) {
    const Format* format = format_named(c.format);
    if (format == nullptr) format = format_with_extension(extension_of(c.record.name));
    if (format == nullptr || !format->describe || c.layout.empty()) return {};
    const auto content = open_content(medium, c.layout, c.record.size);
    Budget budget(std::move(stop));
    Reader reader(*content, budget);
    return format->describe(reader, std::min(content->size(), c.record.size));
}

namespace {

// Of an editor's swap that takes its document's name the text of the document.
Result<WrittenFile> write_content(const Deed& deed, const RestoreRequest& request, WritingWatch& watch) {
    const Candidate& c = deed.candidate;
    if (request.as_original && c.copy.role == Role::swap) {
        if (const auto text = lives::document_in_swap(*open_content(deed.medium, c.layout, c.record.size))) {
            MediumLayout layout;
            layout.lay({{0, text->size()}});
            FileEntry record = c.record;
            record.size = text->size();
            return write_file(text, layout, record, deed.staged, request.sums, watch);
        }
    }
    return write_file(deed.medium, c.layout, c.record, deed.staged, request.sums, watch);
}

}  // namespace

Done carry_out(Deed& deed, const RestoreRequest& request, bool asks_content, MakingTime way, WritingWatch& watch) {
    Done done;
    Candidate& candidate = deed.candidate;
    if (can_be_checked(candidate))
        done.is_learnt = check_content(deed.medium, candidate, [&watch] { return watch.stop.load(); });
    if (request.partials == Partials::skip && expected(candidate) != Outcome::whole) {
        done.is_left_out = true;
        return done;
    }
    if (asks_content) done.said = described(deed.medium, candidate, [&watch] { return watch.stop.load(); });
    done.written = write_content(deed, request, watch);
    if (!done.written || done.written->interrupted) return done;
    if (request.verify) done.is_misread = read_back(deed.staged, request.sums) != done.written->sum;
    const auto completed = done.written->file.complete(candidate.record, way);
    if (!completed) done.written = tl::unexpected<Error>(completed.error());
    return done;
}

}  // namespace dredger
