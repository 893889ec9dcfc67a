// A raw image or a block device, opened O_RDONLY.
#pragma once

#include <filesystem>

#include "media/medium.h"

namespace dredger {

class FileMedium final : public Medium {
  public:
    // Fails with one clear line for what is missing, a folder, empty, or may not be read.
    // With `direct`, single attempts to read a device pass by the kernel's memory, so that it asks for nothing else.
    // Large reads of what that memory does not hold pass by it in any case: filling it would take most of their time.
    static Result<std::shared_ptr<const FileMedium>> open(const std::filesystem::path& path, bool direct = false);
    ~FileMedium() override;
    FileMedium(const FileMedium&) = delete;
    FileMedium& operator=(const FileMedium&) = delete;

    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return sector_size_; }
    std::string name() const override { return path_.string(); }
    void expect(std::uint64_t offset, std::uint64_t length) const override;
    bool try_read(std::uint64_t offset, std::span<std::byte> into) const override;
    bool answers_at(std::uint64_t offset) const override;
    std::uint64_t zeros_from(std::uint64_t offset) const override;
    const std::filesystem::path& path() const { return path_; }
    bool is_device() const { return is_device_; }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    FileMedium(std::filesystem::path path, int descriptor) : path_(std::move(path)), descriptor_(descriptor) {}
    bool can_be_direct(std::uint64_t offset, std::span<const std::byte> into) const;
    bool is_at_hand(std::uint64_t offset, std::uint64_t length) const;
    bool read_piece(std::uint64_t offset, std::span<std::byte> into) const;

    std::filesystem::path path_;
    int descriptor_;
    int direct_ = -1;              // the same, opened O_DIRECT; -1: not
    bool always_direct_ = false;   // single attempts are
    std::byte* mapped_ = nullptr;  // the whole of a large one, to ask what of it is in memory; null: not
    std::uint64_t size_ = 0;
    std::uint32_t sector_size_ = 512;
    bool is_device_ = false;
    bool is_sparse_ = false;
};

}  // namespace dredger
