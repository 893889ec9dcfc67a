// The copy of a medium: one file, or several parts of one size. Zeros that were never anything else are not written.
#pragma once

#include <filesystem>
#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "base/error.h"
#include "base/file_lock.h"

namespace dredger {

class ImageFile {
  public:
    // Of `size` bytes; with `part` > 0 in parts of so many bytes, "FILE.001", "FILE.002" ... What is there is kept.
    static Result<ImageFile> open(const std::filesystem::path& file, std::uint64_t size, std::uint64_t part);
    ~ImageFile();
    ImageFile(ImageFile&& other) noexcept;
    ImageFile& operator=(ImageFile&&) = delete;

    // The name of the first part, under which the whole is opened again.
    static std::filesystem::path first_part(const std::filesystem::path& file, std::uint64_t part);

    Result<void> write(std::uint64_t offset, std::span<const std::byte> bytes);
    // What was written, or zeros; false where it can't be read.
    bool read(std::uint64_t offset, std::span<std::byte> into) const;
    // Waits until all that was written is on the drive.
    Result<void> sync();

  private:
    struct Part {
        std::filesystem::path path;
        int descriptor = -1;
    };
    ImageFile() = default;
    tl::unexpected<Error> unwritable(const Part& part) const;

    std::uint64_t part_ = 0;  // bytes of each
    std::vector<Part> parts_;
    std::unique_ptr<FileLock> lock_;
};

}  // namespace dredger
