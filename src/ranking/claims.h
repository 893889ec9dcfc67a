// Who says that a part of the medium is theirs: the layouts of all records of a volume.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <vector>

#include "base/times.h"
#include "media/medium.h"

namespace dredger {

struct Claim {
    Extent where;                // on the volume
    std::int64_t candidate = 0;  // its id in the catalog; 0: not kept there
    std::uint64_t file = 0;      // FileEntry::content_key(); several names of one file claim the same bytes
    bool live = false;
    std::optional<FileTime> last_sign;  // of life of the file: when it was written or changed last, as far as known
    std::uint64_t unwritten = 0;        // bytes at the end of `where` that are taken and lie behind the end of the file
};

class Claims {
  public:
    void add(const Claim& claim);
    bool empty() const { return live_.claims.empty() && others_.claims.empty(); }
    // After the last add() and before the first question.
    void seal();

    // Every live and every other claim that overlaps `where`, each with the bytes it shares with it. On damaged volumes
    // with very many claims on one place, only the first ones.
    void live_in(const Extent& where, const std::function<void(const Claim&, const Extent&)>& visit) const;
    void others_in(const Extent& where, const std::function<void(const Claim&, const Extent&)>& visit) const;

  private:
    struct List {
        std::vector<Claim> claims;         // by where.offset
        std::vector<std::uint64_t> reach;  // the furthest end of this claim and all before it
        void seal();
        void visit(const Extent& where, const std::function<void(const Claim&, const Extent&)>& visit) const;
    };
    List live_;
    List others_;
};

}  // namespace dredger
