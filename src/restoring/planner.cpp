#include "restoring/planner.h"

#include "base/text.h"
#include "checking/checking.h"

namespace dredger {
namespace {

// Bytes of the destination that it will take.
std::uint64_t stored_bytes(const Candidate& candidate) {
    if (candidate.layout.codec != Codec::none) return candidate.record.size;
    std::uint64_t zeros = 0;
    for (const Extent& extent : candidate.layout.extents) zeros += extent.is_zeros() ? extent.length : 0;
    return candidate.record.size - std::min(candidate.record.size, zeros);
}

}  // namespace

bool Planner::asks_content() const {
    return request_.arrangement == Arrangement::date || (request_.rename && request_.rename->asks_content());
}

std::filesystem::path Planner::folder_for(const Job& job, const Candidate& candidate) {
    const auto folder = job.folder_for.find(candidate.volume);
    return folder == job.folder_for.end() ? std::filesystem::path() : folder->second;
}

std::filesystem::path Planner::wanted(const Job& job, const Candidate& candidate, const Description* said,
                                      std::uint64_t number) const {
    const auto volume = job.volumes.find(candidate.volume);
    if (request_.as_original && !candidate.copy.of.empty()) {
        Candidate document;
        static_cast<Learnt&>(document) = candidate;
        document.volume = candidate.volume;
        document.record = candidate.record;
        const auto [folder, name] = split_path(candidate.copy.of);
        document.record.folder = folder;
        document.record.name = name;
        return wanted(job, document, said, number);
    }
    const NameFacts facts{&candidate, said, volume == job.volumes.end() ? "" : volume->second, number};
    return folder_for(job, candidate) /
           Landing::wanted(facts, request_.arrangement, request_.rename ? &*request_.rename : nullptr, rules_);
}

Plan Planner::plan(const Job& job, const Candidate& candidate) {
    Plan plan;
    if (plan.place = books_.done_already(job.name, candidate, request_.verify); !plan.place.empty()) {
        plan.refusal = {Outcome::already, ""};
        return plan;
    }
    plan.number = ++number_;
    plan.bytes = stored_bytes(candidate);
    if (!asks_content()) plan.place = wanted(job, candidate, nullptr, plan.number);
    if (!job.media.contains(candidate.volume))
        plan.refusal = {Outcome::failed, "its medium is not attached"};
    else if (candidate.record.size > 0 && candidate.layout.empty())
        plan.refusal = {Outcome::failed, "nothing tells where its content lies"};
    else if (request_.partials == Partials::skip && expected(candidate) != Outcome::whole && !can_be_checked(candidate))
        plan.refusal = {Outcome::skipped, "it is not believed whole"};
    else if (!asks_content())
        if (std::string why = landing_.refusal(plan.place); !why.empty())
            plan.refusal = {Outcome::skipped, std::move(why)};
    return plan;
}

}  // namespace dredger
