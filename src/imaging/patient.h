// Reads that may hang: each is made in a thread of its own, and given up when it takes too long.
#pragma once

#include <chrono>
#include <condition_variable>
#include <memory>
#include <mutex>

#include "base/block_pool.h"
#include "media/medium.h"

namespace dredger {

class PatientReader {
  public:
    enum class Outcome { read, failed, hangs };
    struct Answer {
        Outcome outcome = Outcome::failed;
        std::chrono::milliseconds took{0};
        bool came() const { return outcome == Outcome::read; }
    };

    // After `patience` a read counts as hanging; 0: reads don't hang here, and are made by who asks.
    PatientReader(MediumPtr medium, std::chrono::milliseconds patience);
    ~PatientReader();
    PatientReader(const PatientReader&) = delete;
    PatientReader& operator=(const PatientReader&) = delete;

    // Fills the first `length` bytes of `into` where they came. Where it `hangs`, what was given for it
    // may still be written to, and another one stands in its place.
    Answer read(std::uint64_t offset, std::size_t length, std::shared_ptr<AlignedBytes>& into);

    // How many reads hang still. There is one thread for each.
    unsigned hanging() const;

  private:
    struct Hand;
    MediumPtr medium_;
    std::chrono::milliseconds patience_;
    std::shared_ptr<Hand> hand_;                  // that reads
    std::vector<std::shared_ptr<Hand>> hanging_;  // those that were given up

    Outcome ask(std::uint64_t offset, std::size_t length, std::shared_ptr<AlignedBytes>& into);
};

}  // namespace dredger
