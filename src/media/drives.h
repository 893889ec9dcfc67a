// The drives of this machine and what stands behind a path, from the kernel's own tables (sysfs, mountinfo, libblkid).
#pragma once

#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

#include "base/error.h"

namespace dredger {

struct Partition {
    std::string device;                     // "/dev/sdb1"
    std::uint64_t offset = 0;               // bytes from the start of the drive
    std::uint64_t size = 0;                 // bytes
    std::string filesystem;                 // as libblkid calls it; empty where it could not be told
    std::string label;                      // empty where there is none
    std::vector<std::string> mount_points;  // empty: not mounted
    bool writable = false;                  // mounted for reading and writing somewhere
};

struct Drive {
    std::string device;  // "/dev/sdb"
    std::string model;   // empty where it tells none
    std::string serial;
    std::uint64_t size = 0;  // bytes
    bool removable = false;
    bool rotating = false;
    std::vector<Partition> partitions;  // those of its table; one for the whole drive where it has a file system itself
};

// Drives, cards, optical discs and attached loop devices; not RAM disks and not empty readers.
Result<std::vector<Drive>> list_drives();

// Whether this device is the drive or one of its partitions, by whatever path.
bool is_on(const Drive& drive, const std::filesystem::path& device);

// What libblkid recognises in `length` bytes from `offset` of a device or image; empty parts where it recognises
// nothing. Also names file systems that this program can't read itself.
struct Recognised {
    std::string filesystem;
    std::string label;
};
Recognised recognise(const std::filesystem::path& path, std::uint64_t offset, std::uint64_t length);

// The serial number of the drive that `device` is or is a part of; empty where it tells none.
std::string serial_of(const std::filesystem::path& device);

// The mount points of `device` (a block device or a part of one).
struct Mount {
    std::string device;
    std::string folder;
    bool writable = false;
};
std::vector<Mount> mounts_on_drive_of(const std::filesystem::path& device);
// A sentence for each of these that is mounted for writing, with what keeps it from changing.
std::vector<std::string> warnings_of_writing(const std::filesystem::path& device);

// A folder that this user can write below, of a file system that keeps what is written to it.
struct WritablePlace {
    std::string folder;
    std::string device;  // or the address of a share
    std::string filesystem;
    std::uint64_t room = 0;  // bytes
};
// The mount points of such file systems, without what the system itself boots from.
std::vector<WritablePlace> writable_places();
// Bytes that this user can write below an existing folder; 0 where it can't be told.
std::uint64_t room_in(const std::filesystem::path& folder);

// Why writing below `folder` could destroy what is read from `source`: it lies on the source itself, on another
// partition of the same drive, or on a loop device whose backing file is the source. Empty where it is safe.
// `folder` need not exist yet: the nearest folder above it counts.
std::string writing_endangers(const std::filesystem::path& folder, const std::filesystem::path& source);
// The same of all files that a medium stands on; the first danger counts.
std::string writing_endangers(const std::filesystem::path& folder, const std::vector<std::filesystem::path>& sources);

}  // namespace dredger
