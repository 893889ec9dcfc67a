// The ground in blocks, read ahead by threads of its own. What was read stays in memory until it is let go, so that the
// medium is not asked again where a file goes on in the next blocks.
#pragma once

#include <condition_variable>
#include <map>
#include <mutex>
#include <optional>
#include <thread>
#include <vector>

#include "base/block_pool.h"
#include "base/bytes.h"
#include "media/content.h"

namespace dredger {

// A piece of the ground, and a little of what stands around it.
struct GroundBlock {
    std::uint64_t start = 0;   // on the ground
    std::uint64_t length = 0;  // bytes
    std::uint64_t next = 0;    // where the next one starts; what lies between is zeros by definition
    bool is_sound = true;      // all bytes could be read
    std::optional<Error> failure;
    std::shared_ptr<AlignedBytes> room;
    std::uint64_t bytes_at = 0;  // of the ground: where the room begins
    std::size_t filled = 0;      // bytes of it

    std::span<const std::byte> bytes() const { return std::span<const std::byte>(*room).first(filled); }
    ByteView from(std::uint64_t at) const { return ByteView(bytes().subspan(place(at)), at); }
    // A few bytes in front of `at`, as far as they are there.
    ByteView before(std::uint64_t at) const;

  private:
    friend class GroundAhead;
    std::size_t place(std::uint64_t at) const { return static_cast<std::size_t>(at - bytes_at); }
};

class GroundAhead final : public Medium {
  public:
    static constexpr std::uint64_t kBlock = 1 << 20;  // bytes: they stay in a core's cache while they are searched

    // From `from` on, in blocks; long zeros by definition are passed over.
    GroundAhead(std::shared_ptr<const Content> ground, std::uint64_t from);
    ~GroundAhead() override;
    GroundAhead(const GroundAhead&) = delete;
    GroundAhead& operator=(const GroundAhead&) = delete;

    // The next block in order, to whoever asks first; none behind the last one, or after stop().
    std::optional<GroundBlock> next();
    // Makes room for another one. Blocks are let go in order.
    void let_go_first();
    // Nobody waits any more.
    void stop();

    std::uint64_t size() const override { return ground_->size(); }
    std::uint32_t sector_size() const override { return ground_->sector_size(); }
    std::string name() const override { return ground_->name(); }
    void add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const override {
        ground_->add_known_bad(offset, length, bad);
    }

  protected:
    // From the blocks, as far as they are within reach.
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    using BlockPtr = std::shared_ptr<const GroundBlock>;

    void read_blocks();
    GroundBlock read_block(std::uint64_t start, std::uint64_t next);
    std::uint64_t next_after(std::uint64_t start) const;
    std::uint64_t reach() const;  // of the ground; what lies before it is read without anything being let go
    BlockPtr block_with(std::uint64_t offset) const;

    std::shared_ptr<const Content> ground_;
    std::uint64_t from_;
    BlockPool rooms_;
    mutable std::mutex guard_;
    mutable std::condition_variable changed_;
    std::map<std::uint64_t, std::uint64_t> next_;  // starts of the blocks that are asked for, by those before them
    std::map<std::uint64_t, BlockPtr> read_;       // by their starts, until they are let go
    std::uint64_t first_, to_read_, to_hand_out_, expected_;
    bool stop_ = false;
    std::vector<std::thread> threads_;  // last: they use all the others
};

}  // namespace dredger
