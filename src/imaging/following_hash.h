// The SHA-256 of an image while it is being written, from its start, of what arrived in order. It reads what was just
// written, which lies in memory still, and works only when the processor has nothing else to do.
#pragma once

#include <condition_variable>
#include <cstdint>
#include <mutex>
#include <thread>

#include "base/digest.h"
#include "imaging/image_file.h"
#include "media/medium.h"

namespace dredger {

class FollowingHash {
  public:
    // `wanted` false: it does nothing.
    FollowingHash(const ImageFile& image, bool wanted);
    ~FollowingHash() { stop(); }
    FollowingHash(const FollowingHash&) = delete;
    FollowingHash& operator=(const FollowingHash&) = delete;

    void arrived(const Extent& block);
    // Ends where it is, which is behind what arrived, perhaps.
    void stop();

    // When stopped: up to where it came, and the hash of that, to go on with.
    std::uint64_t position() const { return position_; }
    Sha256& digest() { return digest_; }

  private:
    void run();

    const ImageFile& image_;
    std::mutex lock_;
    std::condition_variable changed_;
    std::uint64_t arrived_ = 0;  // all bytes in front of it did
    bool stop_ = false;
    std::uint64_t position_ = 0;
    Sha256 digest_;
    std::thread thread_;  // last: it uses all the others
};

}  // namespace dredger
