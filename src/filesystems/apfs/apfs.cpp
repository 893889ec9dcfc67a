#include "filesystems/apfs/apfs.h"

#include <fmt/format.h>

#include "base/text.h"
#include "filesystems/apfs/walk.h"

namespace dredger::apfs {
namespace {

std::string_view role_in_words(std::uint16_t role) {
    switch (role) {
        case APFS_VOL_ROLE_SYSTEM: return "system";
        case APFS_VOL_ROLE_USER: return "user";
        case APFS_VOL_ROLE_RECOVERY: return "recovery";
        case APFS_VOL_ROLE_VM: return "swap space";
        case APFS_VOL_ROLE_PREBOOT: return "preboot";
        case APFS_VOL_ROLE_DATA: return "data";
        case APFS_VOL_ROLE_UPDATE: return "update";
        default: return {};
    }
}

}  // namespace

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume) {
    std::vector<std::string> warnings;
    auto container = Container::open(volume, warnings);
    if (!container) return nullptr;
    return std::make_unique<Apfs>(std::move(*container), std::move(warnings));
}

Apfs::Apfs(Container container, std::vector<std::string> warnings) : container_(std::move(container)) {
    const NxSuperblock& super = container_.super();
    facts_.warnings = std::move(warnings);
    facts_.filesystem = "APFS";
    facts_.serial = uuid_text(std::as_bytes(std::span<const std::uint8_t, 16>(super.nx_uuid)));
    facts_.cluster_size = super.nx_block_size;
    facts_.size = super.nx_block_count * super.nx_block_size;
    const auto volumes = container_.volumes_of(super);
    for (const VolumeState& volume : volumes) {
        if (!facts_.label.empty()) facts_.label += ", ";
        facts_.label += volume.name;
        const std::string_view role = role_in_words(volume.super.apfs_role);
        if (volumes.size() > 1 && !role.empty()) facts_.label += fmt::format(" ({})", role);
        if (volume.is_encrypted())
            facts_.warnings.push_back(fmt::format("its volume \"{}\" is encrypted: unlock it first", volume.name));
    }
    if (volumes.empty()) facts_.warnings.emplace_back("none of its volumes can be read");
    if (!container_.read_space(space_))
        facts_.warnings.emplace_back(
            "the map of used space is damaged: what is overwritten is told by the files' records alone");
    facts_.used = space_.taken_bytes();
    if ((super.nx_incompatible_features & NX_INCOMPAT_FUSION) != 0)
        facts_.warnings.emplace_back(
            "it is one half of a pair of a fast and a slow drive: what lies on the other one is missing");
    if (facts_.size > container_.blocks().container()->size())
        facts_.warnings.push_back(fmt::format("the volume should have {} bytes, {} can be read: it is cut short",
                                              facts_.size, container_.blocks().container()->size()));
}

std::vector<FileRoot> Apfs::roots() const {
    std::vector<FileRoot> roots;
    for (const VolumeAtHand& volume : volumes_at_hand(container_)) {
        roots.push_back({volume.state.oid(), volume.state.name, false, 0, std::nullopt});
        for (const Snapshot& snapshot : volume.snapshots)
            roots.push_back({volume.state.oid(), snapshot.name, true, snapshot.xid, snapshot.made});
    }
    return roots;
}

Result<void> Apfs::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const {
    ApfsWalk(container_, space_, options, sink, warnings).run();
    return {};
}

}  // namespace dredger::apfs
