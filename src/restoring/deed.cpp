#include "restoring/deed.h"

#include "base/text.h"
#include "checking/checking.h"
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
    done.written = write_file(deed.medium, candidate.layout, candidate.record, deed.staged, request.sums, watch);
    if (!done.written || done.written->interrupted) return done;
    if (request.verify) done.is_misread = read_back(deed.staged, request.sums) != done.written->sum;
    const auto completed = done.written->file.complete(candidate.record, way);
    if (!completed) done.written = tl::unexpected<Error>(completed.error());
    return done;
}

}  // namespace dredger
