#include "repairing/mending.h"

#include <algorithm>

#include "media/content.h"
#include "media/coverage.h"

namespace dredger::repairing {

std::uint64_t first_hole(std::span<const Extent> holes, std::uint64_t at, std::uint64_t end) {
    for (const Extent& hole : holes)
        if (hole.end() > at) end = std::min(end, std::max(hole.offset, at));
    return end;
}

Result<void> Damaged::find_holes(const std::function<bool()>& should_stop) {
    const std::uint64_t size = content->size();
    std::vector<Extent> lost = std::move(holes);
    std::vector<std::byte> chunk;
    for (std::uint64_t at = 0; at < size; at += chunk.size()) {
        if (should_stop()) return fail(ErrorKind::interrupted, "interrupted");
        chunk.resize(static_cast<std::size_t>(std::min<std::uint64_t>(1 << 20, size - at)));
        DREDGER_CHECK(content->read(at, chunk, &lost));
    }
    holes = Coverage(std::move(lost)).within(0, size);
    if (holes.empty()) return {};
    std::vector<Extent> pieces;
    std::uint64_t at = 0;
    for (const Extent& hole : holes) {
        if (hole.offset > at) pieces.push_back({at, hole.offset - at});
        pieces.push_back(Extent::zeros(hole.length));
        at = hole.end();
    }
    if (at < size) pieces.push_back({at, size - at});
    content = std::make_shared<Content>(content, pieces);
    return {};
}

bool Damaged::touches_hole(std::uint64_t at, std::uint64_t length) const {
    return std::any_of(holes.begin(), holes.end(),
                       [&](const Extent& hole) { return hole.offset < at + length && at < hole.end(); });
}

Measured measured(const Damaged& file, std::string_view format, const Workbench& bench) {
    Budget budget = bench.budget();
    Reader content(*file.content, budget);
    return measure(*format_named(format), content);
}

Result<Mended> as_it_is(const Damaged& file, const Workbench& bench, Mended done) {
    done.outcome = Outcome::whole;
    DREDGER_TRY(Output output, bench.output());
    output.add(*file.content, 0, file.content->size());
    return finished(std::move(output), std::move(done));
}

Result<Mended> finished(Output output, Mended done) {
    DREDGER_CHECK(output.finish());
    done.result = std::move(output);
    return done;
}

}  // namespace dredger::repairing
