// Writes what was read, in threads of its own, so that reading goes on meanwhile.
#pragma once

#include <condition_variable>
#include <deque>
#include <filesystem>
#include <mutex>
#include <optional>
#include <thread>

#include "base/digest.h"
#include "imaging/image_file.h"
#include "imaging/patient.h"
#include "media/area_map.h"

namespace dredger {

// A block on its way. It is used again when nobody needs it any more.
struct Block {
    std::uint64_t offset = 0;
    std::size_t length = 0;
    std::shared_ptr<AlignedBytes> bytes;
};

// A thread that deals with blocks in the order in which they are given, of which at most `most` wait.
class BlockQueue {
  public:
    // `in_the_background`: only when the processor has nothing else to do.
    BlockQueue(std::size_t most, bool in_the_background, std::function<void(Block&)> deal);
    ~BlockQueue() { close(); }
    BlockQueue(const BlockQueue&) = delete;
    BlockQueue& operator=(const BlockQueue&) = delete;

    void give(Block block);
    // Does not wait: false where it would have to.
    bool offer(Block block);
    // Waits until all that was given is dealt with.
    void close();

  private:
    void run();

    std::size_t most_;
    bool in_the_background_;
    std::function<void(Block&)> deal_;
    std::mutex lock_;
    std::condition_variable changed_;
    std::deque<Block> blocks_;
    bool closed_ = false;
    std::thread thread_;  // last: it uses all the others
};

class Writer {
  public:
    Writer(ImageFile& image, std::filesystem::path map, bool hashes);

    // An error of an earlier write; this block is lost() then.
    Result<void> write(Block block);
    // What was given before is on the drive when the map says that it is there.
    Result<void> save(const AreaMap& map);
    Result<void> close();

    // Up to where everything came in order and was hashed on the way, and the hash of it, to go on with; valid when
    // closed. The medium is never kept waiting for it: where it falls behind, it ends.
    std::uint64_t hashed() const { return hashed_; }
    Sha256& digest() { return digest_; }
    // What was given and did not arrive; valid when closed.
    const std::vector<Extent>& lost() const { return lost_; }

  private:
    void put(const Block& block);
    void note(Result<void> done);
    Result<void> error();

    ImageFile& image_;
    std::filesystem::path map_file_;
    bool hashes_;
    std::mutex lock_;
    std::optional<Error> error_;
    std::deque<AreaMap> maps_;  // to be written when their turn comes: for each a block without bytes
    std::vector<Extent> lost_;
    Sha256 digest_;
    std::uint64_t hashed_ = 0;
    BlockQueue hashing_;
    BlockQueue writing_;
};

}  // namespace dredger
