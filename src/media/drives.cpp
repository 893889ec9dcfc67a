#include "media/drives.h"

#include <algorithm>
#include <blkid/blkid.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <fstream>
#include <libmount/libmount.h>
#include <libudev.h>
#include <memory>
#include <set>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include "base/beneath.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

template <auto Release>
struct Releasing {
    template <class T>
    void operator()(T* handle) const {
        Release(handle);
    }
};
using Udev = std::unique_ptr<udev, Releasing<udev_unref>>;
using UdevDevice = std::unique_ptr<udev_device, Releasing<udev_device_unref>>;
using UdevEnumerate = std::unique_ptr<udev_enumerate, Releasing<udev_enumerate_unref>>;
using Probe = std::unique_ptr<blkid_struct_probe, Releasing<blkid_free_probe>>;
using MountTable = std::unique_ptr<libmnt_table, Releasing<mnt_unref_table>>;

std::string trimmed(const char* text) {
    std::string out = text == nullptr ? "" : text;
    const auto first = out.find_first_not_of(" \t\n");
    if (first == std::string::npos) return {};
    return out.substr(first, out.find_last_not_of(" \t\n") - first + 1);
}

std::string line_of(const fs::path& file) {
    std::ifstream in(file);
    std::string line;
    std::getline(in, line);
    return trimmed(line.c_str());
}

std::uint64_t number_of(const fs::path& file) {
    std::uint64_t value = 0;
    std::ifstream(file) >> value;
    return value;
}

fs::path sysfs_of(dev_t device) {
    std::error_code failed;
    return fs::canonical(fmt::format("/sys/dev/block/{}:{}", major(device), minor(device)), failed);
}

dev_t device_number(const fs::path& path) {
    struct stat facts {};
    return ::stat(path.c_str(), &facts) == 0 && S_ISBLK(facts.st_mode) ? facts.st_rdev : 0;
}

// The whole drives that the device in sysfs folder `device` stands on: through partitions and stacked devices.
void add_whole_drives(const fs::path& device, std::set<fs::path>& drives, std::set<fs::path>& seen) {
    if (device.empty() || !seen.insert(device).second) return;
    std::error_code failed;
    if (fs::exists(device / "partition", failed)) return add_whole_drives(device.parent_path(), drives, seen);
    bool stacked = false;
    for (const auto& below : fs::directory_iterator(device / "slaves", failed)) {
        stacked = true;
        add_whole_drives(fs::canonical(below.path(), failed), drives, seen);
    }
    if (!stacked) drives.insert(device);
}

std::set<fs::path> whole_drives(dev_t device) {
    std::set<fs::path> drives;
    std::set<fs::path> seen;
    if (device != 0) add_whole_drives(sysfs_of(device), drives, seen);
    return drives;
}

// A file, whatever its name: device and inode number.
using FileId = std::pair<dev_t, ino_t>;

// The image files behind those of the drives that are loop devices.
std::set<FileId> backing_files(const std::set<fs::path>& drives) {
    std::set<FileId> files;
    for (const fs::path& drive : drives) {
        const std::string backing = line_of(drive / "loop/backing_file");
        struct stat image {};
        if (!backing.empty() && ::stat(backing.c_str(), &image) == 0) files.emplace(image.st_dev, image.st_ino);
    }
    return files;
}

// Calls with each entry of the kernel's table of mounts.
template <class Visit>
void each_mount(const Visit& visit) {
    const MountTable table(mnt_new_table_from_file("/proc/self/mountinfo"));
    if (!table) return;
    libmnt_iter* walk = mnt_new_iter(MNT_ITER_FORWARD);
    libmnt_fs* entry = nullptr;
    while (mnt_table_next_fs(table.get(), walk, &entry) == 0) visit(entry);
    mnt_free_iter(walk);
}

std::vector<Mount> all_mounts() {
    std::vector<Mount> mounts;
    each_mount([&](libmnt_fs* entry) {
        const char* source = mnt_fs_get_source(entry);
        if (source == nullptr || source[0] != '/') return;
        unsigned long flags = 0;
        mnt_optstr_get_flags(mnt_fs_get_options(entry), &flags, mnt_get_builtin_optmap(MNT_LINUX_MAP));
        mounts.push_back({source, trimmed(mnt_fs_get_target(entry)), (flags & MS_RDONLY) == 0});
    });
    return mounts;
}

// The drives behind `folder`. Some file systems show a device number of their own; the mount table knows better.
std::set<fs::path> drives_behind(const fs::path& folder, dev_t shown) {
    std::set<fs::path> drives = whole_drives(shown);
    const MountTable table(mnt_new_table_from_file("/proc/self/mountinfo"));
    std::error_code failed;
    const fs::path real = fs::canonical(folder, failed);
    libmnt_fs* mount = table ? mnt_table_find_mountpoint(table.get(), real.c_str(), MNT_ITER_BACKWARD) : nullptr;
    const char* source = mount != nullptr ? mnt_fs_get_source(mount) : nullptr;
    if (source != nullptr) drives.merge(whole_drives(device_number(source)));
    return drives;
}

void add_facts(Partition& partition, const std::vector<Mount>& mounts) {
    for (const Mount& mount : mounts) {
        if (mount.device != partition.device) continue;
        partition.mount_points.push_back(mount.folder);
        partition.writable = partition.writable || mount.writable;
    }
    Recognised found = recognise(partition.device, 0, partition.size);
    partition.filesystem = std::move(found.filesystem);
    partition.label = std::move(found.label);
}

Drive describe(udev_device* device, const std::vector<Mount>& mounts) {
    const fs::path folder = udev_device_get_syspath(device);
    const auto property = [&](const char* name) { return trimmed(udev_device_get_property_value(device, name)); };
    Drive drive;
    drive.device = trimmed(udev_device_get_devnode(device));
    drive.model = property("ID_MODEL");
    if (drive.model.empty()) drive.model = line_of(folder / "device/model");
    if (drive.model.empty() && fs::exists(folder / "loop/backing_file"))
        drive.model = "image " + line_of(folder / "loop/backing_file");
    drive.serial = property("ID_SERIAL_SHORT");
    if (drive.serial.empty()) drive.serial = line_of(folder / "device/serial");
    drive.size = number_of(folder / "size") * 512;
    drive.removable = number_of(folder / "removable") != 0;
    drive.rotating = number_of(folder / "queue/rotational") != 0;

    std::error_code failed;
    for (const auto& below : fs::directory_iterator(folder, failed)) {
        if (!fs::exists(below.path() / "partition")) continue;
        drive.partitions.push_back({"/dev/" + below.path().filename().string(),
                                    number_of(below.path() / "start") * 512,
                                    number_of(below.path() / "size") * 512,
                                    {},
                                    {},
                                    {},
                                    false});
    }
    std::sort(drive.partitions.begin(), drive.partitions.end(),
              [](const Partition& a, const Partition& b) { return a.offset < b.offset; });
    for (Partition& partition : drive.partitions) add_facts(partition, mounts);
    if (drive.partitions.empty()) {
        Partition whole{drive.device, 0, drive.size, {}, {}, {}, false};
        add_facts(whole, mounts);
        if (!whole.filesystem.empty() || !whole.mount_points.empty()) drive.partitions.push_back(std::move(whole));
    }
    return drive;
}

}  // namespace

Result<std::vector<Drive>> list_drives() {
    const Udev context(udev_new());
    const UdevEnumerate list(context ? udev_enumerate_new(context.get()) : nullptr);
    if (!list)
        return fail(ErrorKind::unreadable, "the kernel's list of drives can't be read", "/sys/block",
                    "is /sys mounted?");
    udev_enumerate_add_match_subsystem(list.get(), "block");
    udev_enumerate_add_match_property(list.get(), "DEVTYPE", "disk");
    udev_enumerate_scan_devices(list.get());
    const auto mounts = all_mounts();
    std::vector<Drive> drives;
    udev_list_entry* entry = nullptr;
    udev_list_entry_foreach(entry, udev_enumerate_get_list_entry(list.get())) {
        const UdevDevice device(udev_device_new_from_syspath(context.get(), udev_list_entry_get_name(entry)));
        if (!device) continue;
        const std::string kernel_name = trimmed(udev_device_get_sysname(device.get()));
        if (kernel_name.starts_with("ram") || kernel_name.starts_with("zram")) continue;
        Drive drive = describe(device.get(), mounts);
        if (drive.size > 0) drives.push_back(std::move(drive));
    }
    std::sort(drives.begin(), drives.end(), [](const Drive& a, const Drive& b) { return a.device < b.device; });
    return drives;
}

bool is_on(const Drive& drive, const fs::path& device) {
    std::error_code failed;
    const std::string real = fs::weakly_canonical(device, failed).string();
    return real == drive.device || std::any_of(drive.partitions.begin(), drive.partitions.end(),
                                               [&](const Partition& p) { return p.device == real; });
}

Recognised recognise(const fs::path& path, std::uint64_t offset, std::uint64_t length) {
    const int descriptor = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
    if (descriptor < 0) return {};
    Recognised found;
    if (const Probe probe(blkid_new_probe());
        probe && blkid_probe_set_device(probe.get(), descriptor, static_cast<blkid_loff_t>(offset),
                                        static_cast<blkid_loff_t>(length)) == 0) {
        blkid_probe_enable_superblocks(probe.get(), 1);
        blkid_probe_set_superblocks_flags(probe.get(), BLKID_SUBLKS_TYPE | BLKID_SUBLKS_LABEL);
        const char* value = nullptr;
        if (blkid_do_safeprobe(probe.get()) == 0) {
            if (blkid_probe_lookup_value(probe.get(), "TYPE", &value, nullptr) == 0) found.filesystem = trimmed(value);
            if (blkid_probe_lookup_value(probe.get(), "LABEL", &value, nullptr) == 0) found.label = trimmed(value);
        }
    }
    ::close(descriptor);
    return found;
}

std::string serial_of(const fs::path& device) {
    for (const fs::path& drive : whole_drives(device_number(device)))
        if (std::string serial = line_of(drive / "device/serial"); !serial.empty()) return serial;
    return {};
}

std::uint64_t room_in(const fs::path& folder) {
    std::error_code failed;
    const fs::space_info space = fs::space(folder, failed);
    return failed ? 0 : space.available;
}

std::vector<WritablePlace> writable_places() {
    static const std::set<std::string> kept_in_memory = {"tmpfs", "ramfs", "overlay", "devtmpfs"};
    std::vector<WritablePlace> places;
    each_mount([&](libmnt_fs* entry) {
        if (mnt_fs_is_pseudofs(entry) == 1 || mnt_fs_is_swaparea(entry) == 1) return;
        const std::string folder = trimmed(mnt_fs_get_target(entry)), type = trimmed(mnt_fs_get_fstype(entry));
        std::error_code failed;
        if (kept_in_memory.contains(type) || folder.starts_with("/boot") || !fs::is_directory(folder, failed)) return;
        const bool is_for_files = folder != "/" && ::access(folder.c_str(), W_OK) == 0;
        if (is_for_files) places.push_back({folder, trimmed(mnt_fs_get_source(entry)), type, room_in(folder)});
    });
    return places;
}

std::vector<Mount> mounts_on_drive_of(const fs::path& device) {
    std::vector<Mount> found;
    const auto drives = whole_drives(device_number(device));
    if (drives.empty()) return found;
    for (Mount& mount : all_mounts()) {
        const auto behind = whole_drives(device_number(mount.device));
        if (std::any_of(behind.begin(), behind.end(), [&](const fs::path& d) { return drives.contains(d); }))
            found.push_back(std::move(mount));
    }
    return found;
}

std::vector<std::string> warnings_of_writing(const fs::path& device) {
    std::vector<std::string> warnings;
    for (const Mount& mount : mounts_on_drive_of(device))
        if (mount.writable)
            warnings.push_back(
                fmt::format("{} is mounted for writing on {}; sudo mount -o remount,ro {} keeps it from changing",
                            mount.device, mount.folder, mount.folder));
    return warnings;
}

std::string writing_endangers(const fs::path& folder, const fs::path& source) {
    const fs::path existing = nearest_existing(folder);
    struct stat target {};
    if (::stat(existing.c_str(), &target) != 0) return {};
    struct stat read_from {};
    if (::stat(source.c_str(), &read_from) != 0) return {};
    if (S_ISREG(target.st_mode) && target.st_dev == read_from.st_dev && target.st_ino == read_from.st_ino)
        return "it is the source itself";

    const auto behind_target = drives_behind(existing, target.st_dev);
    const auto behind_source = S_ISBLK(read_from.st_mode) ? whole_drives(read_from.st_rdev) : std::set<fs::path>();
    for (const fs::path& drive : behind_source)
        if (behind_target.contains(drive))
            return fmt::format("it lies on the same drive, {}", "/dev/" + drive.filename().string());

    // Loop devices: writing to one writes to its image file, and so to the drive that this file lies on.
    std::set<FileId> source_files = backing_files(behind_source);
    if (S_ISREG(read_from.st_mode)) source_files.insert({read_from.st_dev, read_from.st_ino});
    for (const fs::path& drive : behind_target) {
        for (const FileId& file : backing_files({drive})) {
            bool on_source = source_files.contains(file);
            for (const fs::path& below : whole_drives(file.first))
                on_source = on_source || behind_source.contains(below);
            if (on_source)
                return fmt::format("it lies inside {}, which is mounted from the source",
                                   "/dev/" + drive.filename().string());
        }
    }
    return {};
}

std::string writing_endangers(const fs::path& folder, const std::vector<fs::path>& sources) {
    for (const fs::path& source : sources)
        if (std::string danger = writing_endangers(folder, source); !danger.empty()) return danger;
    return {};
}

}  // namespace dredger
