// From what was found by its content to what the catalog keeps of it.
#pragma once

#include "carving/find.h"
#include "catalog/candidate.h"
#include "ranking/content_evidence.h"

namespace dredger {

ContentEvidence evidence_of(const Find& find);

// Makes the candidate, which has its id, the one that no record tells of: all but its volume and its state.
void tell_of_find(Candidate& candidate, Find&& find);

// Lays a record's content where it was found, and says what that shows of it.
void lay_record(Candidate& candidate, const Find& find, const ContentEvidence& evidence);

}  // namespace dredger
