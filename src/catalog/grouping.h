// Candidates counted together: by folder, kind, format, date, medium or volume, with what all of a group are worth.
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "ranking/prospect.h"

namespace dredger {

struct Totals {
    std::uint64_t files = 0, folders = 0;
    std::uint64_t bytes = 0;               // of the files, as their records say
    std::uint64_t expected_bytes = 0;      // that we expect to come back right
    std::array<std::uint64_t, 4> bands{};  // files, by Band

    static Totals of_one(bool is_folder, Band band, std::uint64_t size, int prospect);
    void add(const Totals& more);
    // The share of the bytes that is expected to come back, 0 to 100; of the files where these are all empty.
    int prospect() const;
    Band band() const;
};

enum class Grouping { folder, kind, format, date, medium, volume };
inline constexpr std::string_view kGroupingWords[] = {"folder", "kind", "format", "date", "medium", "volume"};

// Groups within groups: folders, or the days of months of years. A group's totals count all that lies below it.
class GroupTree {
  public:
    using Path = std::vector<std::string>;
    struct Group {
        Path path;
        Totals totals;
    };

    // Counts for `path` and all that it lies in, as far as `depth` levels.
    explicit GroupTree(std::size_t depth) : depth_(depth) {}
    void add(Path path, const Totals& totals);

    const Totals& all() const { return all_; }
    // Each before those that lie in it, the rest by their names.
    std::vector<Group> groups() const;

  private:
    std::size_t depth_;
    Totals all_;
    std::map<Path, Totals> groups_;
};

}  // namespace dredger
