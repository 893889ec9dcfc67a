#include "filesystems/ntfs/ntfs.h"

#include <fmt/format.h>

#include "filesystems/ntfs/file.h"
#include "filesystems/ntfs/former_table.h"
#include "filesystems/ntfs/inferred_geometry.h"
#include "filesystems/ntfs/walk.h"
#include "media/content.h"

namespace dredger::ntfs {
namespace {

constexpr std::size_t kBootSectorBytes = 512;
constexpr std::size_t kReadAtOnce = 1 << 20;

std::optional<Geometry> geometry_at(const Medium& volume, std::uint64_t offset) {
    const auto sector = volume.bytes(offset, kBootSectorBytes);
    return sector ? parse_boot_sector(ByteView(*sector, offset)) : std::nullopt;
}

// The boot sector, or its copy in the volume's last sector.
std::optional<Geometry> find_geometry(const Medium& volume, VolumeFacts& facts) {
    if (auto first = geometry_at(volume, 0)) return first;
    for (const std::uint64_t sector : {512U, 1024U, 2048U, 4096U}) {
        if (volume.size() < 2 * sector) continue;
        auto copy = geometry_at(volume, volume.size() / sector * sector - sector);
        if (!copy || copy->sector_size != sector) continue;
        facts.is_mountable = false;
        facts.warnings.emplace_back("the boot sector is damaged; its copy at the end of the volume is used");
        return copy;
    }
    return std::nullopt;
}

// What an earlier life's table calls live was lost when the volume was formatted.
class FormerLife final : public RecordSink {
  public:
    explicit FormerLife(RecordSink& sink) : sink_(sink) {}
    std::uint64_t files() const { return files_; }

    bool take(Record&& record) override {
        if (record.state == State::live) record.state = State::lost;
        record.origin = Origin::remnant;
        record.notes.emplace_back("the volume was formatted since: its record was left over");
        ++files_;
        return sink_.take(std::move(record));
    }

  private:
    RecordSink& sink_;
    std::uint64_t files_ = 0;
};

}  // namespace

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume) {
    VolumeFacts facts;
    const auto geometry = find_geometry(*volume, facts);
    if (!geometry) return nullptr;
    DREDGER_TRY(std::unique_ptr<Ntfs> ntfs, Ntfs::open(std::move(volume), *geometry, std::move(facts)));
    return ntfs;
}

Result<std::unique_ptr<FileSystem>> infer(MediumPtr volume) {
    const auto geometry = infer_geometry(*volume);
    if (!geometry) return nullptr;
    VolumeFacts facts;
    facts.is_mountable = false;
    facts.warnings.emplace_back(
        "it has no boot sector any more: where its file table lies was inferred from its records");
    DREDGER_TRY(std::unique_ptr<Ntfs> ntfs, Ntfs::open(std::move(volume), *geometry, std::move(facts)));
    return ntfs;
}

Result<std::unique_ptr<Ntfs>> Ntfs::open(MediumPtr volume, const Geometry& geometry, VolumeFacts opening) {
    std::unique_ptr<Ntfs> ntfs(new Ntfs(std::move(volume), geometry));
    DREDGER_TRY(Mft mft, Mft::open(ntfs->volume_, ntfs->geometry_, opening.warnings));
    ntfs->mft_ = std::move(mft);
    VolumeFacts& facts = ntfs->facts_;
    facts = std::move(opening);
    facts.filesystem = "NTFS";
    facts.serial = fmt::format("{:016X}", geometry.serial);
    facts.cluster_size = geometry.cluster_size;
    facts.size = geometry.size;
    if (geometry.size > ntfs->volume_->size())
        facts.warnings.push_back(fmt::format("the volume should have {} bytes, {} can be read: it is cut short",
                                             geometry.size, ntfs->volume_->size()));
    ntfs->read_volume_record(*ntfs->mft_);
    ntfs->read_space(*ntfs->mft_);
    facts.used = ntfs->space_.taken_bytes();
    return ntfs;
}

void Ntfs::read_volume_record(const Mft& mft) {
    const auto record = mft.find(VOLUME_DASD_NUMBER);
    if (!record) return;
    const File volume = FileReader(volume_, geometry_, mft).read(*record);
    facts_.label = printable(volume.volume_name);
    if ((volume.volume_flags & VOLUME_DIRTY) != 0)
        facts_.warnings.emplace_back("it was not unmounted cleanly: its last changes may not be in its records");
}

void Ntfs::read_space(const Mft& mft) {
    const std::uint64_t clusters =
        std::min(geometry_.cluster_count, divide_up(volume_->size(), geometry_.cluster_size));
    space_ = SpaceMap(0, geometry_.cluster_size, clusters);
    const auto record = mft.find(BIT_MAP_FILE_NUMBER);
    const File file = record ? FileReader(volume_, geometry_, mft).read(*record) : File();
    bool whole = !file.streams.empty() && file.streams.front().name.empty();
    if (whole) {
        const Stream& stream = file.streams.front();
        const auto bits = open_content(volume_, stream.layout, stream.size);
        std::vector<std::byte> chunk(kReadAtOnce);
        const std::uint64_t bytes = std::min(bits->size(), divide_up(clusters, 8));
        whole = bytes == divide_up(clusters, 8);
        for (std::uint64_t at = 0; at < bytes; at += chunk.size()) {
            const auto part =
                std::span(chunk).first(static_cast<std::size_t>(std::min<std::uint64_t>(chunk.size(), bytes - at)));
            std::vector<Extent> bad;
            if (!bits->read(at, part, &bad) || !bad.empty()) whole = false;
            space_.take_bits(at * 8, part);
        }
    }
    if (!whole)
        facts_.warnings.emplace_back(
            "the map of used clusters is damaged: what is overwritten is told by the files' records alone");
}

Result<void> Ntfs::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const {
    NtfsWalk(volume_, geometry_, *mft_, options, sink, warnings).run();
    if (options.live_only) return {};
    // Damage in what is left of an earlier life is no news.
    std::vector<std::string> ignored;
    for (const FormerTable& former : find_former_tables(*volume_, geometry_, *mft_)) {
        FormerLife life(sink);
        NtfsWalk(volume_, former.geometry, Mft::lying_at(volume_, former.geometry, former.extents), options, life,
                 ignored)
            .run();
        if (life.files() > 0)
            warnings.push_back(fmt::format(
                "it was formatted before: {} files and folders of its earlier life still have their records",
                life.files()));
    }
    return {};
}

}  // namespace dredger::ntfs
