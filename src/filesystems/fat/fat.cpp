#include "filesystems/fat/fat.h"

#include <fmt/format.h>

#include "filesystems/fat/directory.h"
#include "filesystems/fat/former_geometry.h"
#include "filesystems/fat/inferred_geometry.h"
#include "filesystems/fat/walk.h"

namespace dredger::fat {
namespace {

constexpr std::size_t kBootSectorBytes = 512;

std::optional<Geometry> geometry_at(const Medium& volume, std::uint64_t offset) {
    const auto sector = volume.bytes(offset, kBootSectorBytes);
    return sector ? parse_boot_sector(ByteView(*sector, offset), volume.size()) : std::nullopt;
}

// The boot sector, or on FAT32 its copy, which lies in sector 6 of whatever size sectors have.
std::optional<Geometry> find_geometry(const Medium& volume) {
    if (auto first = geometry_at(volume, 0)) return first;
    for (const std::uint64_t sector : {512U, 1024U, 2048U, 4096U}) {
        auto backup = geometry_at(volume, kBackupSector * sector);
        if (!backup || backup->width != Width::fat32 || backup->sector_size != sector) continue;
        backup->warnings.emplace_back("the boot sector is damaged; its backup is used");
        backup->is_mountable = false;
        return backup;
    }
    return std::nullopt;
}

Result<std::unique_ptr<FileSystem>> open_with(MediumPtr volume, const std::optional<Geometry>& geometry) {
    if (!geometry) return nullptr;
    auto table = Table::read(volume, *geometry);
    if (!table) {
        Error error = std::move(table).error();
        return fail(error.kind, fmt::format("the {} table can't be read", geometry->name()), error.where,
                    "the volume may be cut short");
    }
    return std::make_unique<Fat>(std::move(volume), *geometry, std::move(*table));
}

}  // namespace

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume) {
    const auto geometry = find_geometry(*volume);
    return open_with(std::move(volume), geometry);
}

Result<std::unique_ptr<FileSystem>> infer(MediumPtr volume) {
    auto geometry = infer_geometry(*volume);
    if (geometry) geometry->is_mountable = false;
    return open_with(std::move(volume), geometry);
}

Fat::Fat(MediumPtr volume, Geometry geometry, Table table)
    : volume_(std::move(volume)), geometry_(std::move(geometry)), table_(std::move(table)) {
    facts_.filesystem = geometry_.name();
    facts_.is_mountable = geometry_.is_mountable;
    facts_.label = root_label();
    if (facts_.label.empty()) facts_.label = printable(geometry_.label);
    facts_.serial = fmt::format("{:04X}-{:04X}", geometry_.volume_id >> 16, geometry_.volume_id & 0xFFFF);
    facts_.cluster_size = geometry_.cluster_size;
    facts_.size = geometry_.size;
    facts_.used = table_.space().taken_bytes();
    facts_.warnings = geometry_.warnings;
    facts_.warnings.insert(facts_.warnings.end(), table_.warnings().begin(), table_.warnings().end());
}

std::string Fat::root_label() const {
    const Chains chains(volume_, geometry_, table_);
    std::vector<Slot> slots;
    if (geometry_.width != Width::fat32)
        slots = chains.fixed_root();
    else if (geometry_.holds(geometry_.root_cluster))
        slots = chains.slots_of(geometry_.root_cluster);
    for (const DirectoryItem& item : read_items(slots))
        if (!item.deleted && (item.entry.DIR_Attr & ATTR_VOLUME_ID) != 0) {
            std::string text = code_page_to_utf8(std::as_bytes(std::span(item.short_name)), CodePage::cp850);
            while (text.ends_with(' ')) text.pop_back();
            return printable(text);
        }
    return {};
}

Result<void> Fat::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const {
    if (geometry_.width == Width::fat32 && !geometry_.holds(geometry_.root_cluster))
        warnings.push_back(fmt::format("the root directory should lie in cluster {}, which the volume does not have",
                                       geometry_.root_cluster));
    const auto former = options.live_only ? std::nullopt : find_former_geometry(*volume_, &geometry_, table_.space());
    FatWalk present(volume_, geometry_, table_, options, sink, warnings);
    if (former) present.leave_to_former();
    present.run();
    if (!former) return {};
    warnings.push_back(fmt::format(
        "it was formatted before, with clusters of {} bytes: folders of that time still stand", former->cluster_size));
    std::vector<std::string> ignored;
    const Table gone = Table::of_former(*former, table_.space());
    FatWalk(volume_, *former, gone, options, sink, ignored).run_former();
    return {};
}

}  // namespace dredger::fat
