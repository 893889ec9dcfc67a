// Writes what was read, in a thread of its own, so that reading goes on meanwhile.
#pragma once

#include <condition_variable>
#include <deque>
#include <filesystem>
#include <mutex>
#include <optional>
#include <thread>
#include <variant>

#include "imaging/following_hash.h"
#include "imaging/image_file.h"
#include "imaging/patient.h"
#include "media/area_map.h"

namespace dredger {

// A block on its way. Its room is used again when nobody needs it any more.
struct Block {
    std::uint64_t offset = 0;
    std::size_t length = 0;
    std::shared_ptr<AlignedBytes> bytes;
};

class Writer {
  public:
    // `hash` hears of every block that arrived.
    Writer(ImageFile& image, std::filesystem::path map, FollowingHash& hash);
    ~Writer() { (void)close(); }
    Writer(const Writer&) = delete;
    Writer& operator=(const Writer&) = delete;

    // An error of an earlier write; this block is lost() then.
    Result<void> write(Block block);
    // What was given before is on the drive when the map says that it is there.
    Result<void> save(const AreaMap& map);
    // Waits until all that was given is dealt with.
    Result<void> close();

    // What was given and did not arrive; valid when closed.
    const std::vector<Extent>& lost() const { return lost_; }

  private:
    using Task = std::variant<Block, AreaMap>;
    static constexpr std::size_t kMaxWaiting = 8;  // tasks

    void give(Task task);
    void run();
    Result<void> put(const Block& block);
    Result<void> put(const AreaMap& map);
    Result<void> error();

    ImageFile& image_;
    std::filesystem::path map_file_;
    FollowingHash& hash_;
    std::mutex lock_;
    std::condition_variable changed_;
    std::deque<Task> tasks_;
    bool closed_ = false;
    std::optional<Error> error_;
    std::vector<Extent> lost_;
    std::thread thread_;  // last: it uses all the others
};

}  // namespace dredger
