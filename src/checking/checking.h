// The thorough check of a candidate's content: read through its layout and its format as far as that makes sense.
#pragma once

#include "catalog/candidate.h"
#include "media/medium.h"

namespace dredger {

// What records tell of can be checked where its layout is known and something of it may be left. Finds by signature
// were read when they were found.
bool can_be_checked(const Candidate& candidate);

// Sets what the content shows: prospect, proof, and a finer format. Leaves the rest as it is. False: `stop` ended it,
// and nothing is changed.
bool check_content(const MediumPtr& medium, Candidate& candidate, const Budget::Stop& stop = {});

// The format that content of this name can be measured as; null where its first bytes show none.
const Format* measured_format(std::string_view name, ByteView head);

// Where content of this name that fills whole clusters ends, as WalkOptions::content_end wants it.
std::optional<std::uint64_t> content_end(std::string_view name, const Medium& content, const Budget::Stop& stop = {});
// How long content of this name is, as WalkOptions::content_length wants it.
std::optional<std::uint64_t> content_length(std::string_view name, const Medium& content,
                                            const Budget::Stop& stop = {});

}  // namespace dredger
