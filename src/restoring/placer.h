// Gives completed files their own names, one after another in the order in which they come, beside the work of others.
#pragma once

#include <condition_variable>
#include <filesystem>
#include <mutex>
#include <thread>
#include <vector>

#include "catalog/candidate.h"
#include "restoring/file_writer.h"
#include "restoring/outcome.h"

namespace dredger {

// A file and the name that it is to get.
struct Placement {
    StagedFile file;
    PathBeneath target;   // below the destination
    std::string catalog;  // file name
    Candidate candidate;
    Outcome outcome;  // as it was told already
};

class Placer {
  public:
    Placer();
    // All that was given is placed first.
    ~Placer();
    Placer(const Placer&) = delete;
    Placer& operator=(const Placer&) = delete;

    // Waits while very many wait for their names already.
    void give(Placement placement);
    struct Failure {
        Placement placement;
        Error why;
    };
    // What could not be placed since this was asked last.
    std::vector<Failure> failures();
    // The same, when all that was given is done with.
    std::vector<Failure> rest();

  private:
    void run();

    std::mutex lock_;
    std::condition_variable given_, done_;  // done_: also when all that waited was taken
    std::vector<Placement> waiting_;
    std::vector<Failure> failures_;
    bool is_busy_ = false, is_closed_ = false;
    std::thread thread_;
};

}  // namespace dredger
