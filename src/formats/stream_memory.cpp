#include "formats/stream_memory.h"

#include <algorithm>

namespace dredger::formats {

std::optional<StreamMemory::Way> StreamMemory::Way::copy() const {
    auto copied = decoder.copy();
    if (!copied) return std::nullopt;
    return Way{so_far, std::move(*copied), familiarity};
}

void StreamMemory::keep(std::uint64_t bytes) {
    kept_ = bytes;
    std::erase_if(ended_, [&](const auto& one) { return one.first + one.second.all.packed > bytes; });
    known_.remove_if([&](const Known& one) { return one.end() > bytes; });
}

const Unpacked* StreamMemory::ended(std::uint64_t at, std::size_t head) const {
    const auto one = ended_.find(at);
    return one == ended_.end() || one->second.head < head ? nullptr : &one->second.all;
}

std::optional<StreamMemory::Way> StreamMemory::furthest(std::uint64_t at, std::size_t head) const {
    const auto one = std::find_if(known_.rbegin(), known_.rend(),
                                  [&](const Known& known) { return known.at == at && known.head >= head; });
    return one == known_.rend() ? std::nullopt : one->way.copy();
}

void StreamMemory::note_end(std::uint64_t at, std::size_t head, const Unpacked& all) {
    constexpr std::size_t kMost = 4096;
    if (ended_.size() < kMost) ended_.insert_or_assign(at, Ended{head, all});
}

void StreamMemory::note(std::uint64_t at, std::size_t head, const Way& way) {
    constexpr std::size_t kMost = 32;  // each takes 60 KiB or so
    const std::uint64_t end = at + way.so_far.packed;
    if (!known_.empty() && known_.back().at == at && end < known_.back().end() + step_) return;
    auto copy = way.copy();
    if (!copy) return;
    known_.push_back({at, head, std::move(*copy)});
    if (known_.size() < kMost) return;
    // Only every second one.
    bool is_left = false;
    known_.remove_if([&](const Known&) { return std::exchange(is_left, !is_left); });
    step_ *= 2;
}

}  // namespace dredger::formats
