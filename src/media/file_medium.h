// A raw image or a block device, opened O_RDONLY.
#pragma once

#include <filesystem>

#include "media/medium.h"

namespace dredger {

class FileMedium final : public Medium {
  public:
    // Fails with one clear line for what is missing, a folder, empty, or may not be read.
    // With `direct`, single attempts to read a device pass by the kernel's memory, so that it asks for nothing else.
    static Result<std::shared_ptr<const FileMedium>> open(const std::filesystem::path& path, bool direct = false);
    ~FileMedium() override;
    FileMedium(const FileMedium&) = delete;
    FileMedium& operator=(const FileMedium&) = delete;

    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return sector_size_; }
    std::string name() const override { return path_.string(); }
    void expect(std::uint64_t offset, std::uint64_t length) const override;
    bool try_read(std::uint64_t offset, std::span<std::byte> into) const override;
    const std::filesystem::path& path() const { return path_; }
    bool is_device() const { return is_device_; }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    FileMedium(std::filesystem::path path, int descriptor) : path_(std::move(path)), descriptor_(descriptor) {}
    static bool read_piece(int descriptor, std::uint64_t offset, std::span<std::byte> into);

    std::filesystem::path path_;
    int descriptor_;
    int direct_ = -1;  // the same, opened O_DIRECT; -1: not
    std::uint64_t size_ = 0;
    std::uint32_t sector_size_ = 512;
    bool is_device_ = false;
};

}  // namespace dredger
