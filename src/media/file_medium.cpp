#include "media/file_medium.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/aligned.h"
#include "base/file_io.h"

namespace dredger {

namespace {

constexpr std::uint64_t kLarge = 256 << 20;     // bytes; smaller ones are read through the kernel's memory
constexpr std::size_t kDirectFrom = 512 << 10;  // bytes of a read
constexpr std::uint64_t kPage = 4096;
constexpr std::uint64_t kBlockOfStat = 512;  // bytes that st_blocks counts by

}  // namespace

Result<std::shared_ptr<const FileMedium>> FileMedium::open(const std::filesystem::path& path, bool direct) {
    const auto refused = [&](std::string what, std::string hint) {
        return fail(ErrorKind::unreadable, std::move(what), path.string(), std::move(hint));
    };
    struct stat facts {};
    if (::stat(path.c_str(), &facts) != 0)
        return refused(errno == ENOENT ? "no such file or device" : std::strerror(errno),
                       "dredger survey lists the drives of this machine");
    if (S_ISDIR(facts.st_mode))
        return refused("this is a folder, not a medium", "give the device it is on, or an image file");
    if (!S_ISREG(facts.st_mode) && !S_ISBLK(facts.st_mode))
        return refused("this is neither a block device nor an image file", "dredger survey lists the drives");

    const int descriptor = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
    if (descriptor < 0)
        return refused(std::strerror(errno), errno == EACCES || errno == EPERM ? "try again with sudo" : "");
    std::shared_ptr<FileMedium> medium(new FileMedium(path, descriptor));
    medium->is_device_ = S_ISBLK(facts.st_mode);
    medium->size_ = static_cast<std::uint64_t>(facts.st_size);
    medium->is_sparse_ =
        !medium->is_device_ && static_cast<std::uint64_t>(facts.st_blocks) < medium->size_ / kBlockOfStat;
    if (medium->is_device_) {
        int sector = 0;
        if (::ioctl(descriptor, BLKGETSIZE64, &medium->size_) != 0) return refused(std::strerror(errno), "");
        if (::ioctl(descriptor, BLKSSZGET, &sector) == 0 && sector >= 512)
            medium->sector_size_ = static_cast<std::uint32_t>(sector);
    }
    medium->always_direct_ = direct && medium->is_device_;
    if (medium->always_direct_ || medium->size_ >= kLarge)
        medium->direct_ = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_DIRECT);
    if (medium->direct_ >= 0 && medium->size_ >= kLarge) {
        void* const place =
            ::mmap(nullptr, static_cast<std::size_t>(medium->size_), PROT_READ, MAP_SHARED, descriptor, 0);
        if (place != MAP_FAILED) medium->mapped_ = static_cast<std::byte*>(place);
    }
    if (medium->size_ == 0)
        return refused("this is empty: there is nothing to read", "check that the medium is inserted");
    return medium;
}

FileMedium::~FileMedium() {
    if (mapped_ != nullptr) ::munmap(mapped_, static_cast<std::size_t>(size_));
    if (direct_ >= 0) ::close(direct_);
    ::close(descriptor_);
}

bool FileMedium::can_be_direct(std::uint64_t offset, std::span<const std::byte> into) const {
    constexpr std::uintptr_t kAlignment = 512;
    const std::uint64_t unit = std::max<std::uint64_t>(kAlignment, sector_size_);
    return direct_ >= 0 && reinterpret_cast<std::uintptr_t>(into.data()) % kAlignment == 0 && offset % unit == 0 &&
           into.size() % unit == 0;
}

// Asked of three pages only: what was read before, or ahead, lies there in long runs.
bool FileMedium::is_at_hand(std::uint64_t offset, std::uint64_t length) const {
    if (mapped_ == nullptr) return true;
    for (const std::uint64_t at : {offset, offset + length / 2, offset + length - 1}) {
        unsigned char state = 0;
        if (::mincore(mapped_ + at / kPage * kPage, kPage, &state) != 0) return true;
        if ((state & 1U) == 0) return false;
    }
    return true;
}

bool FileMedium::try_read(std::uint64_t offset, std::span<std::byte> into) const {
    if (always_direct_ && can_be_direct(offset, into)) return read_all(direct_, offset, into) == into.size();
    return read_piece(offset, into);
}

// What the kernel remembers of it says nothing.
bool FileMedium::answers_at(std::uint64_t offset) const {
    const std::uint64_t from = offset / kPage * kPage;
    if (from >= size_) return false;
    AlignedBytes page(static_cast<std::size_t>(std::min(kPage, size_ - from)));
    const std::span<std::byte> into(page);
    ::posix_fadvise(descriptor_, static_cast<off_t>(from), static_cast<off_t>(kPage), POSIX_FADV_DONTNEED);
    return read_all(can_be_direct(from, into) ? direct_ : descriptor_, from, into) == into.size();
}

// Holes of an image file.
std::uint64_t FileMedium::zeros_from(std::uint64_t offset) const {
    if (!is_sparse_ || offset >= size_) return 0;
    const off_t data = ::lseek(descriptor_, static_cast<off_t>(offset), SEEK_DATA);
    if (data < 0) return errno == ENXIO ? size_ - offset : 0;
    return std::min(static_cast<std::uint64_t>(data), size_) - offset;
}

bool FileMedium::read_piece(std::uint64_t offset, std::span<std::byte> into) const {
    if (into.size() >= kDirectFrom && can_be_direct(offset, into) && !is_at_hand(offset, into.size()) &&
        read_all(direct_, offset, into) == into.size())
        return true;
    return read_all(descriptor_, offset, into) == into.size();
}

void FileMedium::expect(std::uint64_t offset, std::uint64_t length) const {
    if (length >= kDirectFrom && direct_ >= 0 && mapped_ != nullptr)
        return;  // it will not go through the kernel's memory
    ::posix_fadvise(descriptor_, static_cast<off_t>(offset), static_cast<off_t>(length), POSIX_FADV_WILLNEED);
}

Result<void> FileMedium::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    if (read_piece(offset, into)) return {};
    // Somewhere in here is a bad place: sector by sector, so that only what really can't be read is lost.
    for (std::size_t at = 0; at < into.size();) {
        const std::size_t to_boundary = sector_size_ - (offset + at) % sector_size_;
        const auto piece = into.subspan(at, std::min(to_boundary, into.size() - at));
        if (!read_piece(offset + at, piece)) {
            std::fill(piece.begin(), piece.end(), std::byte{0});
            if (!bad.empty() && bad.back().end() == offset + at)
                bad.back().length += piece.size();
            else
                bad.push_back({offset + at, piece.size()});
        }
        at += piece.size();
    }
    return {};
}

}  // namespace dredger
