#include "imaging/writer.h"

namespace dredger {

Writer::Writer(ImageFile& image, std::filesystem::path map, FollowingHash& hash)
    : image_(image), map_file_(std::move(map)), hash_(hash), thread_([this] { run(); }) {}

Result<void> Writer::write(Block block) {
    give(std::move(block));
    return error();
}

Result<void> Writer::save(const AreaMap& map) {
    give(map);
    return error();
}

Result<void> Writer::close() {
    {
        const std::lock_guard guard(lock_);
        closed_ = true;
    }
    changed_.notify_all();
    if (thread_.joinable()) thread_.join();
    return error();
}

Result<void> Writer::error() {
    const std::lock_guard guard(lock_);
    return error_ ? Result<void>(tl::unexpected<Error>(*error_)) : Result<void>();
}

void Writer::give(Task task) {
    std::unique_lock guard(lock_);
    changed_.wait(guard, [&] { return tasks_.size() < kMaxWaiting; });
    tasks_.push_back(std::move(task));
    changed_.notify_all();
}

void Writer::run() {
    std::unique_lock guard(lock_);
    for (;;) {
        changed_.wait(guard, [&] { return !tasks_.empty() || closed_; });
        if (tasks_.empty()) return;
        const Task task = std::move(tasks_.front());
        tasks_.pop_front();
        changed_.notify_all();
        const bool failed = error_.has_value();
        guard.unlock();
        // After an error nothing arrives any more, and a map would call blocks done that did not.
        const auto done = failed ? error() : std::visit([this](const auto& what) { return put(what); }, task);
        const auto* block = std::get_if<Block>(&task);
        if (!done && block != nullptr) lost_.push_back({block->offset, block->length});
        guard.lock();
        if (!done && !error_) error_ = done.error();
    }
}

Result<void> Writer::put(const Block& block) {
    DREDGER_CHECK(image_.write(block.offset, std::span(*block.bytes).first(block.length)));
    hash_.arrived({block.offset, block.length});
    return {};
}

Result<void> Writer::put(const AreaMap& map) {
    DREDGER_CHECK(image_.sync());
    return map.write(map_file_);
}

}  // namespace dredger
