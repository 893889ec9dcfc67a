// What is done with one planned file, by any of several threads: it is checked, described and written under the name
// that it has until it gets its own.
#pragma once

#include "restoring/file_writer.h"
#include "restoring/job.h"
#include "restoring/planner.h"

namespace dredger {

struct Deed {
    Job* job = nullptr;
    Candidate candidate;
    MediumPtr medium;
    std::filesystem::path staged;
    Plan plan;
};

struct Done {
    Description said;
    bool is_learnt = false;    // the candidate was checked
    bool is_left_out = false;  // it is not believed whole, and only what is whole is wanted
    bool is_misread = false;   // what was read back is not what was written
    Result<WrittenFile> written = WrittenFile{};
};

// What content says of itself; nothing where its format does not, or somebody asks to stop.
Description described(const MediumPtr& medium, const Candidate& candidate, Budget::Stop stop);

// Touches nothing but the deed and its file.
Done carry_out(Deed& deed, const RestoreRequest& request, bool asks_content, MakingTime way, WritingWatch& watch);

}  // namespace dredger
