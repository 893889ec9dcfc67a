#include "bins/contents.h"

#include "base/checked.h"
#include "bins/bins.h"

namespace dredger {
namespace {

// Keeps what lies in bins; the notes of the bins may come after it.
class Look final : public RecordSink {
  public:
    explicit Look(MediumPtr volume) : volume_(std::move(volume)) {}

    bool take(Record&& record) override {
        bins_.learn(record, volume_);
        if (!Bins::holds(record.path())) return true;
        if (thrown_away_.size() >= kMax) return false;
        record.state = State::trashed;
        record.layout = {};
        thrown_away_.push_back(std::move(record));
        return true;
    }

    BinContents contents() {
        BinContents sum;
        for (Record& record : thrown_away_) {
            bins_.settle(record);
            sum.add(record);
        }
        return sum;
    }

  private:
    static constexpr std::size_t kMax = 200'000;

    MediumPtr volume_;
    Bins bins_;
    std::vector<Record> thrown_away_;
};

}  // namespace

void BinContents::add(const FileEntry& record) {
    ++(record.is_folder ? folders : files);
    bytes = checked_add(bytes, record.size).value_or(bytes);
    if (!record.deleted) return;
    if (!first || *record.deleted < *first) first = record.deleted;
    if (!last || *last < *record.deleted) last = record.deleted;
}

BinContents look_into_bins(const MediumPtr& volume, const FileSystem& filesystem) {
    Look look(volume);
    WalkOptions options;
    options.live_only = true;
    std::vector<std::string> warnings;
    if (!filesystem.walk(options, look, warnings)) return {};
    return look.contents();
}

}  // namespace dredger
