// What work on content may cost: reads, bytes, and the patience of whoever waits for it. Content lies about itself, so
// every read spends from a budget, and a measurer that has spent all of it gives up, whatever its loops would do next.
// What may be spent grows with the bytes that exist: honest content, however long, never comes to the end of it.
#pragma once

#include <algorithm>
#include <cstdint>
#include <functional>

namespace dredger {

// Used by one thread.
class Budget {
  public:
    struct Limits {
        std::uint64_t steps = 4 << 20;      // reads of any kind, to begin with
        std::uint64_t steps_per_byte = 16;  // and with each byte that is fetched
        std::uint64_t bytes = 16 << 20;     // fetched, to begin with
        std::uint64_t bytes_per_byte = 64;  // and with each byte that lies further on than any before: tables are read
                                            // again for each end mark of a document that was changed many times
    };
    // For what is hardly worth it: a little of each, however much exists.
    static constexpr Limits kScant{1 << 20, 0, 1 << 20, 0};

    // Asked now and then; once true it stays true. May be empty.
    using Stop = std::function<bool()>;

    Budget() : Budget(Stop()) {}
    explicit Budget(Stop stop) : Budget(Limits(), std::move(stop)) {}
    explicit Budget(const Limits& limits, Stop stop = {})
        : limits_(limits), steps_left_(limits.steps), bytes_left_(limits.bytes), stop_(std::move(stop)) {}

    // False where nothing is left.
    bool spend_step() {
        if (steps_left_ == 0) [[unlikely]]
            return false;
        --steps_left_;
        return true;
    }

    // `bytes` that end at `end` of the content are about to be fetched. False where they can't be afforded.
    bool spend_bytes(std::uint64_t bytes, std::uint64_t end) {
        if (end > furthest_) {
            bytes_left_ += (end - furthest_) * limits_.bytes_per_byte;
            furthest_ = end;
        }
        if (!spend(bytes)) return false;
        steps_left_ += bytes * limits_.steps_per_byte;
        return true;
    }

    // `bytes` came out of a packed stream: they exist nowhere, so they are cheap but not free.
    bool spend_unpacked(std::uint64_t bytes) { return spend(bytes / 16); }

    // Everything was spent, or somebody asked to stop.
    bool is_spent() const { return steps_left_ == 0; }
    bool was_stopped() const { return was_stopped_; }
    std::uint64_t bytes_spent() const { return bytes_spent_; }

  private:
    bool spend(std::uint64_t bytes) {
        bytes_spent_ += bytes;
        was_stopped_ = was_stopped_ || (stop_ && stop_());
        if (bytes > bytes_left_ || was_stopped_) {
            steps_left_ = 0;
            limits_.steps_per_byte = 0;
        }
        bytes_left_ -= std::min(bytes, bytes_left_);
        return !is_spent();
    }

    Limits limits_;
    std::uint64_t steps_left_;
    std::uint64_t bytes_left_;
    std::uint64_t furthest_ = 0;  // byte of the content
    std::uint64_t bytes_spent_ = 0;
    Stop stop_;
    bool was_stopped_ = false;
};

}  // namespace dredger
