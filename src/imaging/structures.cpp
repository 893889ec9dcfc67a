#include "imaging/structures.h"

#include <mutex>

#include "filesystems/filesystem.h"
#include "media/coverage.h"
#include "volumes/mapping.h"
#include "volumes/volume.h"

namespace dredger {
namespace {

constexpr std::uint64_t kAtOnce = 64 << 10;  // bytes: a drive takes no longer over so many than over one sector

// The medium, as far as it was copied; what is read of it is copied first.
class ThroughTheCopy final : public Medium {
  public:
    ThroughTheCopy(const Medium& whole, CopySoFar& copy, Observer& observer)
        : whole_(whole), copy_(copy), observer_(observer) {}

    std::uint64_t size() const override { return whole_.size(); }
    std::uint32_t sector_size() const override { return whole_.sector_size(); }
    std::string name() const override { return whole_.name(); }
    std::vector<Extent> looked_at() const { return looked_at_.extents(); }
    bool is_over() const { return over_; }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override {
        const std::lock_guard guard(lock_);
        if (observer_.should_stop()) over_ = true;
        if (over_) return fail(ErrorKind::unreadable, "the copy has ended", name());
        looked_at_.add({offset, into.size()});
        const std::uint64_t from = offset / kAtOnce * kAtOnce;
        const std::uint64_t to = std::min(size(), (offset + into.size() + kAtOnce - 1) / kAtOnce * kAtOnce);
        if (const auto fetched = copy_.fetch({from, to - from}); !fetched) {
            over_ = true;
            return fetched;
        }
        return copy_.read(offset, into, bad);
    }

  private:
    const Medium& whole_;
    CopySoFar& copy_;
    Observer& observer_;
    mutable std::mutex lock_;
    mutable Coverage looked_at_;
    mutable bool over_ = false;
};

class NoOne final : public RecordSink {
    bool take(Record&&) override { return true; }
};

}  // namespace

std::vector<Extent> copy_structures(const Medium& medium, CopySoFar& copy, Observer& observer) {
    const auto seen = std::make_shared<ThroughTheCopy>(medium, copy, observer);
    const auto map = read_partition_map(*seen);
    if (!map) return seen->looked_at();
    WalkOptions options;
    options.live_only = true;
    options.go_on = [&](const char*, std::uint64_t, std::uint64_t) { return !seen->is_over(); };
    for (const Volume& volume : map->volumes) {
        if (seen->is_over()) break;
        const auto filesystem = open_filesystem(open_volume(seen, volume));
        if (!filesystem || *filesystem == nullptr) continue;
        NoOne nobody;
        std::vector<std::string> warnings;
        // What it could not walk was refused, and is asked for again later.
        (void)(*filesystem)->walk(options, nobody, warnings);
    }
    return seen->looked_at();
}

}  // namespace dredger
