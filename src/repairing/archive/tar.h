// The members of a damaged tar archive: those that stand are kept as they are, of those that are cut what stands.
#pragma once

#include <functional>
#include <span>
#include <string_view>

#include "repairing/mending.h"

namespace dredger::repairing {

struct TarMembers {
    std::uint64_t kept = 0, of = 0;  // members that are whole, and those whose headers stand
    std::uint64_t lost = 0;          // bytes that belong to no member
    bool has_end = false;            // it is marked
    std::vector<std::string> what;   // that was found to be wrong, a sentence each
    bool is_complete() const { return of > 0 && kept == of && lost == 0; }
};

// How far the content is to be believed.
struct TarContent {
    std::span<const std::uint64_t> gaps = {};  // bytes in front of which some are missing, in order
    std::span<const Extent> holes = {};        // what is known not to be its own, in order
    bool is_doubtful = false;  // damage does not show in it by itself: what stands behind a broken place may be wrong
};

// Hands the archive over anew, piece by piece.
TarMembers mend_tar(Reader& content, const TarContent& about, const std::function<void(std::string_view)>& write,
                    const std::function<bool()>& should_stop);

}  // namespace dredger::repairing
