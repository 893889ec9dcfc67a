#include "media/presence.h"

namespace dredger {

bool Presence::answers() const {
    constexpr std::uint64_t kPlaces = 16;
    if (answered_at_ < medium_->size()) return medium_->answers_at(answered_at_);
    for (std::uint64_t n = 0; n < kPlaces; ++n) {
        const std::uint64_t at = medium_->size() / kPlaces * n;
        if (!medium_->answers_at(at)) continue;
        answered_at_ = at;
        return true;
    }
    return false;
}

Result<void> Presence::check() const {
    if (answers()) return {};
    return fail(ErrorKind::unreadable, "the medium has gone: what could be read can't be read any more",
                medium_->name(), "look at cable and power, and run the same command again to go on");
}

}  // namespace dredger
