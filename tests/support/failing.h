// A medium that fails as drives do: at given places, now and then, slowly, or not at all any more. It counts how often
// each sector was asked for.
#pragma once

#include <atomic>
#include <chrono>
#include <map>
#include <mutex>
#include <set>
#include <thread>

#include "media/medium.h"

namespace dredger::test {

class FailingMedium final : public Medium {
  public:
    static constexpr std::uint64_t kSector = 512;

    explicit FailingMedium(std::vector<std::byte> bytes) : bytes_(std::move(bytes)) {}

    void break_sector(std::uint64_t sector) { bad_.insert(sector); }
    void break_area(const Extent& area) {
        for (std::uint64_t s = area.offset / kSector; s * kSector < area.end(); ++s) bad_.insert(s);
    }
    // Fails the first `times` times that it is asked for by itself.
    void break_at_first(std::uint64_t sector, unsigned times) { flaky_[sector] = times; }
    // Whoever reads it waits until the medium is gone, or release() is called.
    void hang_at(std::uint64_t sector) { hanging_.insert(sector); }
    void release() { released_ = true; }
    void answer_after(std::chrono::milliseconds time) { takes_ = time; }
    // After so many reads nothing can be read any more.
    void vanish_after(unsigned reads) { reads_left_ = reads; }

    bool is_bad(std::uint64_t sector) const { return bad_.contains(sector); }
    unsigned asked(std::uint64_t sector) const {
        const std::lock_guard guard(lock_);
        const auto found = asked_.find(sector);
        return found == asked_.end() ? 0 : found->second;
    }
    const std::vector<std::byte>& bytes() const { return bytes_; }

    std::uint64_t size() const override { return bytes_.size(); }
    std::uint32_t sector_size() const override { return kSector; }
    std::string name() const override { return "failing"; }

    bool try_read(std::uint64_t offset, std::span<std::byte> into) const override {
        if (takes_.count() > 0) std::this_thread::sleep_for(takes_);
        const std::uint64_t first = offset / kSector, last = (offset + into.size() - 1) / kSector;
        bool fails = false;
        {
            const std::lock_guard guard(lock_);
            if (reads_left_ > 0 && --reads_left_ == 0) gone_ = true;
            if (gone_) return false;
            for (std::uint64_t s = first; s <= last; ++s) {
                ++asked_[s];
                fails = fails || bad_.contains(s);
                if (const auto flaky = flaky_.find(s); flaky != flaky_.end() && flaky->second > 0) {
                    if (first == last) --flaky->second;
                    fails = true;
                }
            }
        }
        for (std::uint64_t s = first; s <= last; ++s)
            while (hanging_.contains(s) && !released_) std::this_thread::sleep_for(std::chrono::milliseconds(2));
        if (fails) return false;
        std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), into.size(), into.begin());
        return true;
    }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override {
        for (std::size_t at = 0; at < into.size();) {
            const std::size_t step = std::min<std::size_t>(into.size() - at, kSector - (offset + at) % kSector);
            if (!try_read(offset + at, into.subspan(at, step))) {
                std::fill_n(into.begin() + static_cast<std::ptrdiff_t>(at), step, std::byte{0});
                bad.push_back({offset + at, step});
            }
            at += step;
        }
        return {};
    }

  private:
    std::vector<std::byte> bytes_;
    std::set<std::uint64_t> bad_, hanging_;
    std::atomic<bool> released_ = false;
    std::chrono::milliseconds takes_{0};
    mutable std::mutex lock_;
    mutable std::map<std::uint64_t, unsigned> flaky_, asked_;
    mutable unsigned reads_left_ = 0;
    mutable bool gone_ = false;
};

}  // namespace dredger::test
