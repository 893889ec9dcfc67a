#include "carving/ground_ahead.h"

#include <algorithm>

namespace dredger {
namespace {

constexpr std::uint64_t kBefore = 4096;        // bytes in front of a block: reads stay aligned on any medium
constexpr std::uint64_t kSeenBefore = 16;      // of them
constexpr std::uint64_t kBehind = 64 << 10;    // bytes seen beyond a block, for files that start at its end
constexpr std::uint64_t kExpected = 64 << 20;  // bytes ahead that the medium is asked to fetch meanwhile
constexpr std::uint64_t kBlocksAhead = 48;     // not yet let go: many wait while one long file is measured
constexpr unsigned kLookups = 1024;            // of what is zeros, between two blocks
constexpr unsigned kReaders = 3;               // so that the medium always has something to do

}  // namespace

ByteView GroundBlock::before(std::uint64_t at) const {
    const std::size_t there = std::min<std::size_t>(place(at), kSeenBefore);
    return ByteView(bytes().subspan(place(at) - there, there));
}

GroundAhead::GroundAhead(std::shared_ptr<const Content> ground, std::uint64_t from)
    : ground_(std::move(ground)),
      from_(from),
      rooms_(kBefore + kBlock + kBehind),
      first_(from),
      to_read_(from),
      to_hand_out_(from),
      expected_(from) {
    for (unsigned n = 0; n < kReaders; ++n) threads_.emplace_back([this] { read_blocks(); });
}

GroundAhead::~GroundAhead() {
    stop();
    for (std::thread& thread : threads_) thread.join();
}

void GroundAhead::stop() {
    const std::lock_guard lock(guard_);
    stop_ = true;
    changed_.notify_all();
}

std::uint64_t GroundAhead::reach() const { return std::min(size(), first_ + kBlocksAhead * kBlock); }

void GroundAhead::read_blocks() {
    for (;;) {
        std::uint64_t start = 0, next = 0;
        std::optional<Extent> ahead;
        {
            std::unique_lock lock(guard_);
            changed_.wait(lock, [&] { return stop_ || to_read_ >= size() || to_read_ < reach(); });
            if (stop_ || to_read_ >= size()) return;
            start = to_read_;
            next = next_[start] = to_read_ = next_after(start);
            if (const std::uint64_t end = std::min(start + kExpected, size()); end > expected_)
                ahead = Extent{expected_, end - std::exchange(expected_, end)};
        }
        if (ahead) ground_->expect(ahead->offset, ahead->length);
        auto block = std::make_shared<const GroundBlock>(read_block(start, next));
        const std::lock_guard lock(guard_);
        if (!block->is_sound) expected_ = size();  // a failing medium is not asked for more than what is read
        read_[start] = std::move(block);
        changed_.notify_all();
    }
}

// Whole blocks of zeros are passed over, but for the first and the last bytes of them, which belong to blocks around.
std::uint64_t GroundAhead::next_after(std::uint64_t start) const {
    const std::uint64_t next = start + kBlock;
    std::uint64_t end = next;
    for (unsigned n = 0; n < kLookups && end < size(); ++n) {
        const std::uint64_t zeros = ground_->zeros_from(end);
        if (zeros == 0) break;
        end = zeros < size() - end ? end + zeros : size();
    }
    return next + (end - next) / kBlock * kBlock;
}

GroundBlock GroundAhead::read_block(std::uint64_t start, std::uint64_t next) {
    GroundBlock block;
    block.start = start;
    block.length = std::min(kBlock, size() - start);
    block.next = std::min(next, size());
    block.bytes_at = start - std::min(start, kBefore);
    block.filled = static_cast<std::size_t>(start + block.length - block.bytes_at);
    block.room = rooms_.take();
    std::vector<Extent> bad;  // what can't be read comes as zeros, in which nothing begins
    const auto read = ground_->read(block.bytes_at, std::span(*block.room).first(block.filled), &bad);
    if (!read) block.failure = read.error();
    block.is_sound = read && bad.empty();
    return block;
}

std::optional<GroundBlock> GroundAhead::next() {
    BlockPtr read, behind;
    {
        std::unique_lock lock(guard_);
        changed_.wait(lock, [&] { return stop_ || to_hand_out_ >= size() || next_.contains(to_hand_out_); });
        if (stop_ || to_hand_out_ >= size()) return std::nullopt;
        const std::uint64_t start = std::exchange(to_hand_out_, next_.at(to_hand_out_));
        const bool goes_on = start + kBlock < size() && to_hand_out_ == start + kBlock;
        changed_.wait(lock,
                      [&] { return stop_ || (read_.contains(start) && (!goes_on || read_.contains(start + kBlock))); });
        if (stop_) return std::nullopt;
        read = read_[start];
        if (goes_on) behind = read_[start + kBlock];
    }
    GroundBlock block = *read;
    if (behind != nullptr) {
        // Nobody else writes to this part of the room, or reads it.
        const auto beyond = behind->bytes().subspan(behind->place(behind->start),
                                                    static_cast<std::size_t>(std::min(kBehind, behind->length)));
        std::copy(beyond.begin(), beyond.end(), std::span(*block.room).subspan(block.filled).begin());
        block.filled += beyond.size();
        block.is_sound = block.is_sound && behind->is_sound;
    } else if (block.next > block.start + block.length) {
        const auto beyond = std::span(*block.room).subspan(block.filled).first(kBehind);
        std::fill(beyond.begin(), beyond.end(), std::byte{0});
        block.filled += beyond.size();
    }
    return block;
}

void GroundAhead::let_go_first() {
    const std::lock_guard lock(guard_);
    read_.erase(first_);
    first_ = next_.extract(first_).mapped();
    changed_.notify_all();
}

// Waits for a block that is being read, or will be in any case.
GroundAhead::BlockPtr GroundAhead::block_with(std::uint64_t offset) const {
    std::unique_lock lock(guard_);
    const std::uint64_t start = offset - (offset - from_) % kBlock;
    const auto is_passed_over = [&] { return to_read_ > start && !next_.contains(start); };
    if (offset < first_ || offset >= reach()) return nullptr;
    changed_.wait(lock, [&] { return stop_ || read_.contains(start) || is_passed_over(); });
    const auto found = read_.find(start);
    return found == read_.end() ? nullptr : found->second;
}

Result<void> GroundAhead::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    while (!into.empty()) {
        const BlockPtr block = block_with(offset);
        if (block == nullptr || !block->is_sound) return ground_->read(offset, into, &bad);
        const auto here = into.first(
            static_cast<std::size_t>(std::min<std::uint64_t>(into.size(), block->start + block->length - offset)));
        const auto from = block->bytes().subspan(block->place(offset), here.size());
        std::copy(from.begin(), from.end(), here.begin());
        into = into.subspan(here.size());
        offset += here.size();
    }
    return {};
}

}  // namespace dredger
