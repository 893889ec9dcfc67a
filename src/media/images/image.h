// Image files that are not simply the bytes of a medium: virtual disks, split and packed images. A kind is one file
// here and one line of the registry.
#pragma once

#include <filesystem>
#include <functional>
#include <string>
#include <string_view>
#include <vector>

#include "media/file_medium.h"

namespace dredger {

using FilePtr = std::shared_ptr<const FileMedium>;

// What opening an image has come through: the files it stands on, and what is to be told of it.
class Opening {
  public:
    explicit Opening(std::string snapshot = {}) : snapshot_(std::move(snapshot)) {}

    // A further file of the image at `file`, named in it: beside it, where the name is not absolute. `what` says what
    // it is: "the parent disk".
    Result<FilePtr> open_part(const FileMedium& file, const std::string& name, std::string_view what);
    // The disk that the image at `file` builds on, whatever its kind, from the first of these names under which one
    // lies and `is_parent`, where it is given, finds nothing wrong. With `as_raw` its bytes are taken as they are.
    using ParentCheck = std::function<bool(const FileMedium& candidate)>;
    Result<MediumPtr> open_parent(const FileMedium& file, const std::vector<std::string>& names,
                                  const ParentCheck& is_parent = {}, bool as_raw = false);
    // `file`, whatever its kind.
    Result<MediumPtr> open_image(const FilePtr& file);

    void note(std::string remark);
    // Where the image at `file` tells of content up to byte `end` of it, and there is less.
    void note_if_cut(const FileMedium& file, std::uint64_t end);
    void set_form(std::string form) { form_ = std::move(form); }
    void offer_snapshot(std::string name) { snapshots_.push_back(std::move(name)); }

    // The name of the wanted snapshot, taken by the first image that has any; empty: today's state.
    std::string take_snapshot() { return std::exchange(snapshot_, {}); }

    const std::vector<std::filesystem::path>& files() const { return files_; }
    const std::vector<std::string>& remarks() const { return remarks_; }
    const std::vector<std::string>& snapshots() const { return snapshots_; }
    const std::string& form() const { return form_; }
    const std::string& wanted_snapshot() const { return snapshot_; }

  private:
    std::vector<std::filesystem::path> files_;
    std::vector<std::string> remarks_;
    std::vector<std::string> snapshots_;
    std::string snapshot_;
    std::string form_;
    unsigned depth_ = 0;
};

// A path of Windows, or a file URL, as this machine writes it.
std::string with_slashes(std::string path);

struct ImageKind {
    std::string_view name;  // "QCOW2 disk"
    // Null where the file is no such image; an error where it is one that can't be opened.
    Result<MediumPtr> (*open)(const FilePtr& file, Opening& opening);
};

namespace images {

Result<MediumPtr> open_qcow2(const FilePtr& file, Opening& opening);
Result<MediumPtr> open_vhd(const FilePtr& file, Opening& opening);
Result<MediumPtr> open_vhdx(const FilePtr& file, Opening& opening);
Result<MediumPtr> open_vmdk(const FilePtr& file, Opening& opening);
Result<MediumPtr> open_vdi(const FilePtr& file, Opening& opening);
Result<MediumPtr> open_udif(const FilePtr& file, Opening& opening);
Result<MediumPtr> open_android_sparse(const FilePtr& file, Opening& opening);
Result<MediumPtr> open_gzip(const FilePtr& file, Opening& opening);
Result<MediumPtr> open_xz(const FilePtr& file, Opening& opening);
Result<MediumPtr> open_zstd(const FilePtr& file, Opening& opening);
Result<MediumPtr> open_split(const FilePtr& file, Opening& opening);
// Those that are folders: of any files, and of the bands of a disk.
Result<MediumPtr> open_folder(const std::filesystem::path& folder, Opening& opening);
Result<MediumPtr> open_sparse_bundle(const std::filesystem::path& folder, Opening& opening);

}  // namespace images
}  // namespace dredger
