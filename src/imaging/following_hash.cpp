#include "imaging/following_hash.h"

#include <sys/resource.h>
#include <unistd.h>

namespace dredger {

FollowingHash::FollowingHash(const ImageFile& image, bool wanted) : image_(image) {
    if (wanted) thread_ = std::thread([this] { run(); });
}

void FollowingHash::arrived(const Extent& block) {
    const std::lock_guard guard(lock_);
    blocks_.add(block);
    const std::uint64_t end = blocks_.end_at(arrived_);
    if (end == arrived_) return;
    arrived_ = end;
    blocks_.forget_before(end);
    changed_.notify_all();
}

void FollowingHash::stop() {
    {
        const std::lock_guard guard(lock_);
        stop_ = true;
    }
    changed_.notify_all();
    if (thread_.joinable()) thread_.join();
}

void FollowingHash::run() {
    constexpr int kLeast = 19;
    (void)::setpriority(PRIO_PROCESS, static_cast<id_t>(::gettid()), kLeast);
    for (;;) {
        std::uint64_t end = 0;
        {
            std::unique_lock guard(lock_);
            changed_.wait(guard, [&] { return arrived_ > position_ || stop_; });
            if (stop_) return;
            end = arrived_;
        }
        if (!go_on(end)) return;
    }
}

bool FollowingHash::go_on(std::uint64_t end) {
    constexpr std::size_t kPiece = 256 << 10;  // bytes: it stays in a core's cache between being read and hashed
    piece_.resize(kPiece);
    const auto part =
        std::span(piece_).first(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, end - position_)));
    if (!image_.read(position_, part)) return false;
    digest_.add(part);
    position_ += part.size();
    return true;
}

}  // namespace dredger
