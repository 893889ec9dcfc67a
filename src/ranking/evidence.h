// What speaks for and against a candidate's bytes still being its own: gathered from the claims of other records, the
// space map, and the first and the last sector of its content.
#pragma once

#include <vector>

#include "filesystems/filesystem.h"
#include "formats/format.h"
#include "ranking/claims.h"

namespace dredger {

struct Holder {
    std::int64_t candidate = 0;  // 0: not kept in the catalog
    std::uint64_t bytes = 0;     // of the file looked at
};

enum class Tail {
    unknown,
    padded,   // its last bytes are followed by zeros up to the end of the sector, as in the files written here
    foreign,  // they are followed by something else, though files written here are padded
};

struct Evidence {
    bool is_live = false;  // or in a bin: nothing but itself holds its bytes
    bool is_trashed = false;
    bool is_folder = false;
    std::uint64_t size = 0;  // bytes
    std::uint64_t laid = 0;  // bytes of it whose place is known or assumed
    std::size_t fragments = 0;
    LayoutTrust trust = LayoutTrust::none;
    bool within_records = false;  // the content stands in the record itself
    bool encrypted = false;
    Agreement head = Agreement::unknown;
    Tail tail = Tail::unknown;
    std::uint64_t unreadable = 0;          // bytes, of those looked at
    std::uint64_t held_by_live = 0;        // bytes
    std::vector<Holder> live_holders;      // most bytes first
    std::uint64_t behind_ends = 0;         // bytes in clusters that others took, behind where these others end
    std::uint64_t claimed_by_newer = 0;    // bytes, not counting what live files hold
    std::vector<Holder> newer_claimants;   // most bytes first
    std::uint64_t taken_by_unknown = 0;    // bytes that the space map calls taken and no record accounts for
    const Format* found_format = nullptr;  // whose signature stands at the start, where it is not the expected one
    std::vector<std::string> notes;        // of the record
};

// When the file that a record tells of was certainly still alive; nothing where no time is known.
std::optional<FileTime> last_sign_of_life(const FileEntry& record);

// Whether the system that wrote a volume pads the last sector of a file with zeros, learnt from its live files.
class PaddingHabit {
  public:
    // Looks at a live file; only as many as are needed.
    void learn(const Medium& volume, const Record& record);
    bool is_known() const { return padded_ + foreign_ >= 4 && padded_ >= 19 * foreign_; }

  private:
    unsigned padded_ = 0;
    unsigned foreign_ = 0;
};

// Reads at most the first and the last sector of the content.
Evidence gather(const Record& record, std::int64_t candidate, const Claims& claims, const SpaceMap& space,
                const Medium& volume, const PaddingHabit& habit);

}  // namespace dredger
