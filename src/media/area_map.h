// Which areas of a medium a copy of it holds, and which could not be read. As a file beside the image it is JSON of
// dredger's own; docs/failing-media.md describes it.
#pragma once

#include <filesystem>
#include <map>
#include <string>
#include <vector>

#include "media/medium.h"

namespace dredger {

enum class AreaState {
    untried,   // not asked for yet
    done,      // read, and in the copy
    left,      // a read over it failed; what of it is bad is not known yet
    narrowed,  // its ends were read as far as they could be: both of its first and last sectors are bad
    bad,       // asked for by itself, and not readable
};
inline constexpr std::string_view kAreaStateWords[] = {"untried", "done", "left", "narrowed", "bad"};
inline std::string_view word_for(AreaState state) { return kAreaStateWords[static_cast<std::size_t>(state)]; }

struct AreaTotals {
    std::uint64_t bytes[5] = {};  // by AreaState
    std::uint64_t bad_areas = 0;  // runs that are not done, and not untried
    std::uint64_t of(AreaState state) const { return bytes[static_cast<std::size_t>(state)]; }
    std::uint64_t not_done() const {
        return of(AreaState::untried) + of(AreaState::left) + of(AreaState::narrowed) + of(AreaState::bad);
    }
};

class AreaMap {
  public:
    struct Area {
        std::uint64_t offset = 0;  // bytes
        std::uint64_t length = 0;
        AreaState state = AreaState::untried;
        bool operator==(const Area&) const = default;
    };

    // Of a medium of `size` bytes, nothing of it tried.
    explicit AreaMap(std::uint64_t size);

    std::uint64_t size() const { return size_; }
    std::vector<Area> areas() const;  // in order; neighbours differ
    std::vector<Extent> areas_in(AreaState state) const;
    // Those that the copy does not hold.
    std::vector<Extent> not_done() const;
    AreaTotals totals() const;
    // The first area in this state that reaches past `from`, as far as it lies behind it; empty: none.
    Extent next(AreaState state, std::uint64_t from) const;

    // The last area in this state that begins before `to`, as far as it lies before it; empty: none.
    Extent previous(AreaState state, std::uint64_t to) const;

    void set(std::uint64_t offset, std::uint64_t length, AreaState state);

    // Facts that are kept in the file: what was copied, by which it is known again.
    std::map<std::string, std::string> facts;

    // The name of the map of an image: IMAGE.areas.json.
    static std::filesystem::path beside(const std::filesystem::path& image);
    static Result<AreaMap> read(const std::filesystem::path& file);
    // Under another name first, synced, then moved to its place: there is always a whole one.
    Result<void> write(const std::filesystem::path& file) const;

  private:
    std::uint64_t size_;
    std::map<std::uint64_t, AreaState> from_;  // where a state begins; the last one ends at size_
};

}  // namespace dredger
