// The SHA-256 of an image while it is being written, from its start up to the first byte that did not arrive. It reads
// what was just written, which lies in memory still, and works only when the processor has nothing else to do.
#pragma once

#include <condition_variable>
#include <cstdint>
#include <mutex>
#include <string>
#include <thread>
#include <vector>

#include "base/digest.h"
#include "imaging/image_file.h"
#include "media/coverage.h"

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

    // When stopped: up to where it came.
    std::uint64_t position() const { return position_; }
    // When stopped: takes a further piece, at most to `end`; false where the image can't be read.
    bool go_on(std::uint64_t end);
    // 64 hexadecimal digits, of all up to position(). The last call.
    std::string finish() { return digest_.finish(); }

  private:
    void run();

    const ImageFile& image_;
    std::mutex lock_;
    std::condition_variable changed_;
    Coverage blocks_;            // that arrived
    std::uint64_t arrived_ = 0;  // all bytes in front of it did
    bool stop_ = false;
    std::uint64_t position_ = 0;
    Sha256 digest_;
    std::vector<std::byte> piece_;
    std::thread thread_;  // last: it uses all the others
};

}  // namespace dredger
