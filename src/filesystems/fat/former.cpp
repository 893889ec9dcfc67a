// A FAT that a file system of another kind was put over, when its tables are gone: where its clusters lay follows from
// its folders.
#include "filesystems/fat/fat.h"
#include "filesystems/fat/former_geometry.h"
#include "filesystems/fat/walk.h"

namespace dredger::fat {
namespace {

class Former final : public FileSystem {
  public:
    Former(MediumPtr volume, const Geometry& geometry, const SpaceMap& today)
        : volume_(std::move(volume)), geometry_(geometry), table_(Table::of_former(geometry_, today)) {
        facts_.filesystem = "FAT";
        facts_.cluster_size = geometry_.cluster_size;
        facts_.size = geometry_.size;
    }

    const VolumeFacts& facts() const override { return facts_; }
    const SpaceMap& space() const override { return table_.space(); }
    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>&) const override {
        // Damage in what is left of it is no news.
        std::vector<std::string> ignored;
        FatWalk(volume_, geometry_, table_, options, sink, ignored).run_former();
        return {};
    }

  private:
    MediumPtr volume_;
    Geometry geometry_;
    Table table_;
    VolumeFacts facts_;
};

}  // namespace

Result<std::unique_ptr<FileSystem>> former(MediumPtr left, const SpaceMap& today) {
    const auto geometry = find_former_geometry(*left, nullptr, today);
    if (!geometry) return nullptr;
    return std::make_unique<Former>(std::move(left), *geometry, today);
}

}  // namespace dredger::fat
