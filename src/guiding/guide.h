// The whole job by questions: which drive, what was lost, where to put it; then bins and records, the surface if need
// be, a choice, the restore and the report. It runs the program's own commands and shows them.
#pragma once

#include "guiding/machine.h"
#include "guiding/rescue.h"
#include "guiding/talk.h"

namespace dredger::guiding {

enum class Ended {
    done,
    without_report,   // it could not be written
    found_elsewhere,  // in a cloud's bin or a backup: nothing was to be rescued
    later,            // everything is kept
};

// A rescue that did not come to its end is looked for in the machine's places.
Ended guide(Talk& talk, Machine& machine);

}  // namespace dredger::guiding
