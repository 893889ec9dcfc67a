#include "media/file_medium.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file_io.h"

namespace dredger {

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
    if (medium->is_device_) {
        int sector = 0;
        if (::ioctl(descriptor, BLKGETSIZE64, &medium->size_) != 0) return refused(std::strerror(errno), "");
        if (::ioctl(descriptor, BLKSSZGET, &sector) == 0 && sector >= 512)
            medium->sector_size_ = static_cast<std::uint32_t>(sector);
    }
    if (direct && medium->is_device_) medium->direct_ = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_DIRECT);
    if (medium->size_ == 0)
        return refused("this is empty: there is nothing to read", "check that the medium is inserted");
    return medium;
}

FileMedium::~FileMedium() {
    ::close(descriptor_);
    if (direct_ >= 0) ::close(direct_);
}

bool FileMedium::try_read(std::uint64_t offset, std::span<std::byte> into) const {
    constexpr std::uintptr_t kAlignment = 512;
    const bool is_aligned = reinterpret_cast<std::uintptr_t>(into.data()) % kAlignment == 0 &&
                            offset % sector_size_ == 0 && into.size() % sector_size_ == 0;
    return read_piece(direct_ >= 0 && is_aligned ? direct_ : descriptor_, offset, into);
}

bool FileMedium::read_piece(int descriptor, std::uint64_t offset, std::span<std::byte> into) {
    return read_all(descriptor, offset, into) == into.size();
}

void FileMedium::expect(std::uint64_t offset, std::uint64_t length) const {
    ::posix_fadvise(descriptor_, static_cast<off_t>(offset), static_cast<off_t>(length), POSIX_FADV_WILLNEED);
}

Result<void> FileMedium::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    if (read_piece(descriptor_, offset, into)) return {};
    // Somewhere in here is a bad place: sector by sector, so that only what really can't be read is lost.
    for (std::size_t at = 0; at < into.size();) {
        const std::size_t to_boundary = sector_size_ - (offset + at) % sector_size_;
        const auto piece = into.subspan(at, std::min(to_boundary, into.size() - at));
        if (!read_piece(descriptor_, offset + at, piece)) {
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
