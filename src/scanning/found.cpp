#include "scanning/found.h"

#include "scanning/find_name.h"

namespace dredger {

ContentEvidence evidence_of(const Find& find) {
    return {find.measured, find.size, find.pieces.size(), find.is_padded, find.format->name, find.is_followed};
}

void tell_of_find(Candidate& candidate, Find&& find) {
    candidate.kind = find.format->kind;
    candidate.format = find.format->name;
    candidate.proof = find.measured.end == Measured::End::broken ? Proof::none : find.measured.proof;
    candidate.is_checked = true;
    candidate.prospect = judge_content(evidence_of(find));
    FileEntry& record = candidate.record;
    record.origin = Origin::signature;
    record.size = find.size;
    record.name = name_of_find(find.said, *find.format, candidate.id);
    record.modified = find.said.date;
    record.facts = std::move(find.said.facts);
    if (!find.said.title.empty()) record.facts.push_back({"title", find.said.title});
    record.trust = find.pieces.size() > 1 ? LayoutTrust::assumed : LayoutTrust::exact;
    candidate.layout.lay(find.pieces);
}

void lay_record(Candidate& candidate, const Find& find, const ContentEvidence& evidence) {
    candidate.prospect = judge_content(evidence);
    candidate.layout = {};
    candidate.layout.lay(find.pieces);
    candidate.record.trust = LayoutTrust::assumed;
    candidate.proof = find.measured.proof;
    candidate.format = find.format->name;
    candidate.kind = find.format->kind;
}

}  // namespace dredger
