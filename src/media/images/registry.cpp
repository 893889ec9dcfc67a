#include <algorithm>
#include <fmt/format.h>

#include "base/amounts.h"
#include "media/area_map.h"
#include "media/charted.h"
#include "media/images/image.h"
#include "media/opened.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

// Those that are recognised by what stands in them come before those recognised by their names.
constexpr ImageKind kKinds[] = {
    {"QCOW2 disk", images::open_qcow2},
    {"VHDX disk", images::open_vhdx},
    {"VDI disk", images::open_vdi},
    {"VMDK disk", images::open_vmdk},
    {"VHD disk", images::open_vhd},
    {"UDIF disk image", images::open_udif},
    {"Android sparse image", images::open_android_sparse},
    {"gzip-packed image", images::open_gzip},
    {"xz-packed image", images::open_xz},
    {"zstd-packed image", images::open_zstd},
    {"split image", images::open_split},
};

constexpr unsigned kDeepest = 64;  // disks that build on each other

Result<FilePtr> open_file(const fs::path& path) {
    DREDGER_TRY(FilePtr file, FileMedium::open(path));
    return file;
}

}  // namespace

Result<FilePtr> Opening::open_part(const FileMedium& file, const std::string& name, std::string_view what) {
    fs::path path = name;
    std::error_code failed;
    if (path.is_relative()) path = file.path().parent_path() / path;
    if (!fs::exists(path, failed)) path = file.path().parent_path() / fs::path(name).filename();
    if (!fs::exists(path, failed))
        return fail(ErrorKind::unreadable, fmt::format("{} is missing: {}", what, name), file.path().string(),
                    "put it into the same folder");
    DREDGER_TRY(FilePtr part, open_file(path));
    files_.push_back(path);
    return part;
}

Result<MediumPtr> Opening::open_parent(const FileMedium& file, const std::vector<std::string>& names,
                                       const ParentCheck& is_parent, bool as_raw) {
    std::error_code failed;
    std::string changed;
    const fs::path folder = file.path().parent_path();
    for (const std::string& name : names) {
        if (name.empty()) continue;
        for (const fs::path& path :
             {fs::path(name).is_absolute() ? fs::path(name) : folder / name, folder / fs::path(name).filename()}) {
            if (!fs::is_regular_file(path, failed) && !fs::is_block_file(path, failed)) continue;
            const bool is_circle = fs::equivalent(path, file.path(), failed) ||
                                   std::any_of(files_.begin(), files_.end(), [&](const fs::path& known) {
                                       return fs::equivalent(path, known, failed);
                                   });
            if (is_circle || ++depth_ > kDeepest)
                return fail(ErrorKind::not_understood, "the disks build on each other in a circle",
                            file.path().string(), "one of them names a wrong parent");
            DREDGER_TRY(const FilePtr parent, open_file(path));
            if (is_parent && !is_parent(*parent)) {
                changed = path.string();
                continue;
            }
            files_.push_back(path);
            if (as_raw) return MediumPtr(parent);
            return open_image(parent);
        }
    }
    if (!changed.empty())
        return fail(ErrorKind::not_understood, "the parent disk is another one, or was changed since: " + changed,
                    file.path().string(), "find the parent as it was: this disk holds only what changed since");
    return fail(ErrorKind::unreadable,
                fmt::format("the parent disk is missing: {}", names.empty() ? "no name is told" : names.front()),
                file.path().string(), "put it into the same folder: this disk holds only what changed since");
}

Result<MediumPtr> Opening::open_image(const FilePtr& file) {
    if (file->is_device() || file->size() == 0) return MediumPtr(file);
    // What an image is stands at its beginning, or in its last sector. Where these can't be read it is a plain one, and
    // they are a bad place of it.
    constexpr std::uint64_t kTold = 512;
    const auto can_be_read = [&](std::uint64_t at) {
        return static_cast<bool>(file->bytes(at, static_cast<std::size_t>(std::min(kTold, file->size() - at))));
    };
    if (!can_be_read(0)) {
        note("its first bytes can't be read: it is taken for a plain image");
        return MediumPtr(file);
    }
    const bool has_end = can_be_read(file->size() - std::min(file->size(), kTold));
    for (const ImageKind& kind : kKinds) {
        auto opened = kind.open(file, *this);
        if (!opened && !has_end && opened.error().kind == ErrorKind::unreadable) continue;
        if (!opened) return opened;
        if (*opened == nullptr) continue;
        if (form_.empty()) form_ = kind.name;
        return opened;
    }
    return MediumPtr(file);
}

std::string with_slashes(std::string path) {
    std::replace(path.begin(), path.end(), '\\', '/');
    for (const char* start : {"file://", "./"})
        if (path.starts_with(start)) path.erase(0, std::string_view(start).size());
    return path;
}

void Opening::note(std::string remark) { remarks_.push_back(std::move(remark)); }

void Opening::note_if_cut(const FileMedium& file, std::uint64_t end) {
    if (file.size() >= end) return;
    note(fmt::format("{} is cut short: it has {} of at least {} bytes; what is missing can't be read",
                     file.path().filename().string(), file.size(), end));
}

Result<OpenedMedium> open_medium(const fs::path& path, Folders folders) {
    std::error_code failed;
    fs::path place = path;
    std::string snapshot;
    const std::string text = path.string();
    if (const auto at = text.rfind('@');
        at != text.npos && at > 0 && !fs::exists(path, failed) && fs::exists(text.substr(0, at), failed)) {
        place = text.substr(0, at);
        snapshot = text.substr(at + 1);
    }
    OpenedMedium opened;
    opened.path = path;
    Opening opening(snapshot);
    if (fs::is_directory(place, failed)) {
        const bool is_disk = folders == Folders::refused || fs::is_directory(place / "bands", failed);
        DREDGER_TRY(opened.medium,
                    is_disk ? images::open_sparse_bundle(place, opening) : images::open_folder(place, opening));
    } else {
        DREDGER_TRY(const FilePtr file, open_file(place));
        opened.is_device = file->is_device();
        DREDGER_TRY(opened.medium, opening.open_image(file));
    }
    if (opened.medium->size() == 0)
        return fail(ErrorKind::unreadable, "this is empty: there is nothing to read", place.string(),
                    "is this the right file?");
    if (!opening.wanted_snapshot().empty())
        return fail(ErrorKind::usage, fmt::format("there is no snapshot {}", snapshot), place.string(),
                    "dredger survey names those that there are");
    opened.form = !opening.form().empty() ? opening.form() : opened.is_device ? "device" : "image";
    if (!snapshot.empty()) opened.form += ", snapshot " + snapshot;
    opened.files = opening.files();
    opened.files.insert(opened.files.begin(), place);
    opened.remarks = opening.remarks();
    opened.snapshots = opening.snapshots();

    const fs::path map_file = AreaMap::beside(place);
    if (!opened.is_device && fs::exists(map_file, failed)) {
        DREDGER_TRY(const AreaMap map, AreaMap::read(map_file));
        if (map.size() != opened.medium->size())
            return fail(
                ErrorKind::not_understood,
                fmt::format("the map is of a medium of {} bytes, the image has {}", map.size(), opened.medium->size()),
                map_file.string(), "move it away if it does not belong to this image");
        const AreaTotals totals = map.totals();
        if (totals.not_held() > 0)
            opened.remarks.push_back(
                fmt::format("{} of the medium are not in this copy, refused or not asked for: {} "
                            "says which",
                            size_text(totals.not_held()), map_file.string()));
        for (const auto outcome : {Asked::Outcome::unasked, Asked::Outcome::absent})
            for (const Extent& area : map.areas_that_are(outcome)) opened.not_asked.push_back(area);
        opened.medium = std::make_shared<Charted>(opened.medium, map.not_held());
    }
    return opened;
}

}  // namespace dredger
