// What a copy holds of a medium: of each area, whether its bytes came, how often they were asked for, and how long the
// slowest answer took. As a file beside the image it is JSON of dredger's own; docs/failing-media.md describes it.
#pragma once

#include <chrono>
#include <filesystem>
#include <map>
#include <string>
#include <vector>

#include "media/medium.h"

namespace dredger {

struct Asked {
    enum class Outcome : std::uint8_t {
        unasked,  // nobody asked for it yet
        held,     // it came, and is in the copy
        refused,  // it was asked for, and did not come
        absent,   // what was copied is a copy itself and does not hold it: this medium can't give it
    };
    Outcome outcome = Outcome::unasked;
    std::uint8_t times = 0;        // that it was asked for; stays at 255
    std::uint32_t slowest_ms = 0;  // of the slowest answer, down to a power of two; 0: all were prompt
    bool operator==(const Asked&) const = default;

    bool is_held() const { return outcome == Outcome::held; }
};
inline constexpr std::string_view kAskedWords[] = {"unasked", "held", "refused", "absent"};
inline std::string_view word_for(Asked::Outcome outcome) { return kAskedWords[static_cast<std::size_t>(outcome)]; }

// An answer within this time is prompt.
inline constexpr std::chrono::milliseconds kPrompt{256};

struct AreaTotals {
    std::uint64_t bytes[4] = {};      // by Asked::Outcome
    std::uint64_t refused_areas = 0;  // runs of bytes that were refused
    std::uint64_t slow = 0;           // bytes that came, but not promptly
    std::uint64_t of(Asked::Outcome outcome) const { return bytes[static_cast<std::size_t>(outcome)]; }
    std::uint64_t held() const { return of(Asked::Outcome::held); }
    std::uint64_t refused() const { return of(Asked::Outcome::refused); }
    std::uint64_t unasked() const { return of(Asked::Outcome::unasked); }
    std::uint64_t absent() const { return of(Asked::Outcome::absent); }
    std::uint64_t not_held() const { return refused() + unasked() + absent(); }
};

class AreaMap {
  public:
    struct Area {
        std::uint64_t offset = 0;  // bytes
        std::uint64_t length = 0;
        Asked asked;
        bool operator==(const Area&) const = default;
    };

    // One run of the copying program.
    struct Run {
        std::string begun;          // ISO 8601, UTC
        std::uint64_t asks = 0;     // that it made
        std::uint64_t refused = 0;  // of these
        std::uint64_t slow = 0;     // of these, whether they came or not
        std::uint64_t held = 0;     // bytes that it brought
        bool operator==(const Run&) const = default;
    };

    // Of a medium of `size` bytes, nothing of it asked for.
    explicit AreaMap(std::uint64_t size);

    std::uint64_t size() const { return size_; }
    std::vector<Area> areas() const { return areas_in({0, size_}); }  // in order; neighbours differ
    std::vector<Area> areas_in(const Extent& part) const;             // as far as they lie in it
    std::vector<Extent> areas_that_are(Asked::Outcome outcome) const;
    // Those that the copy does not hold.
    std::vector<Extent> not_held() const { return not_held_in({0, size_}); }
    std::vector<Extent> not_held_in(const Extent& part) const;
    AreaTotals totals() const { return totals_in({0, size_}); }
    // Of a part, and of several that lie in order and apart from each other.
    AreaTotals totals_in(const Extent& part) const;
    AreaTotals totals_in(const std::vector<Extent>& parts) const;

    // The first area that was asked for so many times in vain and reaches past `from`, as far as it lies behind it;
    // empty: none.
    Extent next_refused(unsigned times, std::uint64_t from) const;
    // The last one that begins before `to`, as far as it lies before it; empty: none.
    Extent previous_refused(unsigned times, std::uint64_t to) const;

    // What came of asking for this.
    void answer(const Extent& asked, bool came, std::chrono::milliseconds took = {});
    void set(std::uint64_t offset, std::uint64_t length, const Asked& asked);

    // Facts that are kept in the file: what was copied, by which it is known again.
    std::map<std::string, std::string> facts;
    std::vector<Run> runs;  // in order

    // The name of the map of an image: IMAGE.areas.json.
    static std::filesystem::path beside(const std::filesystem::path& image);
    static Result<AreaMap> read(const std::filesystem::path& file);
    // Under another name first, synced, then moved to its place: there is always a whole one.
    Result<void> write(const std::filesystem::path& file) const;

  private:
    static bool waits(const Asked& asked, unsigned times);
    std::uint64_t end_of(std::map<std::uint64_t, Asked>::const_iterator area) const;

    std::uint64_t size_;
    std::map<std::uint64_t, Asked> from_;  // where an area begins; the last one ends at size_
};

}  // namespace dredger
