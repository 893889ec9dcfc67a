#include "imaging/image_file.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file_io.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kGrain = 64 << 10;  // bytes that are left out together where they are zeros
constexpr std::uint64_t kMaxParts = 100'000;

bool is_zeros(std::span<const std::byte> bytes) {
    return bytes.empty() ||
           (bytes[0] == std::byte{0} && std::memcmp(bytes.data(), bytes.data() + 1, bytes.size() - 1) == 0);
}

}  // namespace

fs::path ImageFile::first_part(const fs::path& file, std::uint64_t part) {
    return part == 0 ? file : fs::path(file.string() + ".001");
}

Result<ImageFile> ImageFile::open(const fs::path& file, std::uint64_t size, std::uint64_t part) {
    ImageFile image;
    image.part_ = part == 0 ? std::max<std::uint64_t>(size, 1) : part;
    const std::uint64_t count = (size + image.part_ - 1) / image.part_;
    if (count > kMaxParts)
        return fail(ErrorKind::usage, fmt::format("{} parts are too many", count), file.string(), "make them larger");
    for (std::uint64_t n = 0; n < count; ++n) {
        Part& p = image.parts_.emplace_back();
        p.path = part == 0 ? file : fs::path(fmt::format("{}.{:03}", file.string(), n + 1));
        p.descriptor = ::open(p.path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0644);
        const std::uint64_t length = std::min(image.part_, size - n * image.part_);
        struct stat facts {};
        // Never shorter than it is: what was copied before stays.
        if (p.descriptor < 0 || ::fstat(p.descriptor, &facts) != 0 || !S_ISREG(facts.st_mode) ||
            (static_cast<std::uint64_t>(facts.st_size) < length &&
             ::ftruncate(p.descriptor, static_cast<off_t>(length)) != 0))
            return image.unwritable(p);
        if (n > 0) continue;
        image.lock_ = std::make_unique<FileLock>(p.path);
        if (image.lock_->is_held_elsewhere())
            return fail(ErrorKind::unsafe, "another copy is being written here", p.path.string(),
                        "wait until it is done, or give another name");
    }
    return image;
}

ImageFile::~ImageFile() {
    for (const Part& part : parts_)
        if (part.descriptor >= 0) ::close(part.descriptor);
}

ImageFile::ImageFile(ImageFile&& other) noexcept
    : part_(other.part_), parts_(std::exchange(other.parts_, {})), lock_(std::move(other.lock_)) {}

tl::unexpected<Error> ImageFile::unwritable(const Part& part) const {
    return not_written("the image can't be written", part.path.string(),
                       is_want_of_room(errno)
                           ? "make room and run the same command again, or copy elsewhere with --split"
                           : "check the destination");
}

Result<void> ImageFile::write(std::uint64_t offset, std::span<const std::byte> bytes) {
    while (!bytes.empty()) {
        const Part& part = parts_[offset / part_];
        const std::uint64_t within = offset % part_;
        const auto here = bytes.first(static_cast<std::size_t>(std::min<std::uint64_t>(bytes.size(), part_ - within)));
        // Runs of what is not zeros, in one write each.
        for (std::size_t at = 0; at < here.size();) {
            std::size_t end = at;
            while (end < here.size() && !is_zeros(here.subspan(end, std::min(kGrain, here.size() - end))))
                end = std::min(here.size(), end + kGrain);
            if (end > at && !write_all(part.descriptor, within + at, here.subspan(at, end - at)))
                return unwritable(part);
            at = end == at ? std::min(here.size(), at + kGrain) : end;
        }
        bytes = bytes.subspan(here.size());
        offset += here.size();
    }
    return {};
}

bool ImageFile::read(std::uint64_t offset, std::span<std::byte> into) const {
    while (!into.empty()) {
        const std::uint64_t within = offset % part_;
        const auto here = into.first(static_cast<std::size_t>(std::min<std::uint64_t>(into.size(), part_ - within)));
        if (read_all(parts_[offset / part_].descriptor, within, here) != here.size()) return false;
        into = into.subspan(here.size());
        offset += here.size();
    }
    return true;
}

Result<void> ImageFile::sync() {
    for (const Part& part : parts_)
        if (::fdatasync(part.descriptor) != 0) return unwritable(part);
    return {};
}

}  // namespace dredger
