// Opens whatever a technician names: a device, or an image of any kind, alone, in parts or with the disks it builds on.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "media/medium.h"

namespace dredger {

struct OpenedMedium {
    MediumPtr medium;
    std::filesystem::path path;  // as it was named
    bool is_device = false;
    std::string form;                          // "device", "image", "QCOW2 disk", "split image in 3 parts" ...
    std::vector<std::filesystem::path> files;  // all that it stands on, the named one first
    std::vector<std::string> remarks;          // what the technician should know, a sentence each
    std::vector<Extent> not_asked;             // of a copy: what it never asked its medium for
    std::vector<std::string> snapshots;        // earlier states that the image keeps: opened as "FILE@SNAPSHOT"

    // Whether its bytes are those of the one file.
    bool is_raw() const { return form == "device" || form == "image"; }
};

// What becomes of a folder that is no image.
enum class Folders {
    refused,
    as_archive,  // it is read as an archive of its files, as a mail program's folder is
};

// A map of areas that lies beside an image (media/area_map.h) is taken with it.
Result<OpenedMedium> open_medium(const std::filesystem::path& path, Folders folders = Folders::refused);

}  // namespace dredger
