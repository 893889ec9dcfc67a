#include "imaging/writer.h"

#include <sys/resource.h>
#include <unistd.h>

namespace dredger {
namespace {

constexpr std::size_t kWaitToWrite = 8, kWaitToHash = 48;  // blocks: hashing may fall behind a little

}  // namespace

BlockQueue::BlockQueue(std::size_t most, bool in_the_background, std::function<void(Block&)> deal)
    : most_(most), in_the_background_(in_the_background), deal_(std::move(deal)), thread_([this] { run(); }) {}

void BlockQueue::give(Block block) {
    std::unique_lock guard(lock_);
    changed_.wait(guard, [&] { return blocks_.size() < most_; });
    blocks_.push_back(std::move(block));
    changed_.notify_all();
}

bool BlockQueue::offer(Block block) {
    const std::lock_guard guard(lock_);
    if (blocks_.size() >= most_) return false;
    blocks_.push_back(std::move(block));
    changed_.notify_all();
    return true;
}

void BlockQueue::close() {
    {
        const std::lock_guard guard(lock_);
        closed_ = true;
    }
    changed_.notify_all();
    if (thread_.joinable()) thread_.join();
}

void BlockQueue::run() {
    constexpr int kLeast = 19;
    if (in_the_background_) (void)::setpriority(PRIO_PROCESS, static_cast<id_t>(::gettid()), kLeast);
    std::unique_lock guard(lock_);
    for (;;) {
        changed_.wait(guard, [&] { return !blocks_.empty() || closed_; });
        if (blocks_.empty()) return;
        Block block = std::move(blocks_.front());
        blocks_.pop_front();
        changed_.notify_all();
        guard.unlock();
        deal_(block);
        block.bytes.reset();
        guard.lock();
    }
}

Writer::Writer(ImageFile& image, std::filesystem::path map, bool hashes)
    : image_(image),
      map_file_(std::move(map)),
      hashes_(hashes),
      hashing_(kWaitToHash, true,
               [this](Block& block) {
                   if (block.offset != hashed_) return;
                   digest_.add(std::span(*block.bytes).first(block.length));
                   hashed_ += block.length;
               }),
      writing_(kWaitToWrite, false, [this](Block& block) { put(block); }) {}

void Writer::put(const Block& block) {
    const bool failed = !error();
    if (block.bytes != nullptr) {
        auto written = failed ? error() : image_.write(block.offset, std::span(*block.bytes).first(block.length));
        if (!written) lost_.push_back({block.offset, block.length});
        return note(std::move(written));
    }
    lock_.lock();
    const AreaMap next = std::move(maps_.front());
    maps_.pop_front();
    lock_.unlock();
    if (failed) return;  // it would call blocks done that never arrived
    auto synced = image_.sync();
    note(synced ? next.write(map_file_) : synced);
}

void Writer::note(Result<void> done) {
    const std::lock_guard guard(lock_);
    if (!done && !error_) error_ = done.error();
}

Result<void> Writer::error() {
    const std::lock_guard guard(lock_);
    return error_ ? Result<void>(tl::unexpected<Error>(*error_)) : Result<void>();
}

Result<void> Writer::write(Block block) {
    if (hashes_) hashes_ = hashing_.offer(block);
    writing_.give(std::move(block));
    return error();
}

Result<void> Writer::save(const AreaMap& map) {
    DREDGER_CHECK(error());
    {
        const std::lock_guard guard(lock_);
        maps_.push_back(map);
    }
    writing_.give({});
    return {};
}

Result<void> Writer::close() {
    hashing_.close();
    writing_.close();
    return error();
}

}  // namespace dredger
