#include "repairing/mending.h"

namespace dredger::repairing {

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
