#include "restoring/file_writer.h"

#include <cerrno>
#include <cstring>
#include <ctime>
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/digest.h"
#include "filesystems/posix.h"
#include "media/content.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kChunk = 1 << 20;        // bytes
constexpr std::uint64_t kSyncAlone = 1 << 20;  // bytes; larger files are on the drive before they get their name

// A file that vanishes unless it is kept.
class TemporaryFile {
  public:
    explicit TemporaryFile(fs::path path) : path_(std::move(path)) {
        descriptor_ = ::open(path_.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC | O_NOFOLLOW, 0644);
    }
    ~TemporaryFile() {
        if (descriptor_ >= 0) ::close(descriptor_);
        if (!kept_) ::unlink(path_.c_str());
    }
    TemporaryFile(const TemporaryFile&) = delete;
    TemporaryFile& operator=(const TemporaryFile&) = delete;

    bool is_open() const { return descriptor_ >= 0; }
    bool write(std::span<const std::byte> bytes) {
        while (!bytes.empty()) {
            const ssize_t n = ::write(descriptor_, bytes.data(), bytes.size());
            if (n < 0 && errno == EINTR) continue;
            if (n <= 0) return false;
            bytes = bytes.subspan(static_cast<std::size_t>(n));
            size_ += static_cast<std::uint64_t>(n);
        }
        return true;
    }
    bool keep_as(const fs::path& target) {
        // Waiting for the drive after each of many small files would take most of the time; sync_folder() does it for
        // all.
        if (size_ >= kSyncAlone && ::fsync(descriptor_) != 0) return false;
        const bool closed = ::close(descriptor_) == 0;
        descriptor_ = -1;
        kept_ = closed && ::rename(path_.c_str(), target.c_str()) == 0;
        return kept_;
    }

  private:
    fs::path path_;
    int descriptor_;
    std::uint64_t size_ = 0;
    bool kept_ = false;
};

tl::unexpected<Error> unwritable(const fs::path& target) {
    return fail(ErrorKind::output, fmt::format("can't be written ({})", std::strerror(errno)), target.string(),
                errno == ENOSPC || errno == EDQUOT ? "the destination is full: restore the rest elsewhere"
                                                   : "check the destination");
}

timespec time_for(const std::optional<FileTime>& time) {
    if (!time) return {0, UTIME_OMIT};
    timespec spec{time->seconds, static_cast<long>(time->nanoseconds)};
    if (time->clock == FileTime::Clock::local) {
        std::tm digits{};
        if (::gmtime_r(&spec.tv_sec, &digits) != nullptr) {
            digits.tm_isdst = -1;
            spec.tv_sec = ::mktime(&digits);
        }
    }
    return spec;
}

}  // namespace

Result<WrittenFile> write_file(const MediumPtr& medium, const Record& record, const fs::path& target,
                               const std::function<bool(std::uint64_t)>& step) {
    TemporaryFile file(target.string() + ".unfinished");
    if (!file.is_open()) return unwritable(target);
    WrittenFile written;
    Sha256 digest;
    const auto content = open_content(medium, record.layout, record.size);
    std::vector<std::byte> chunk(kChunk);
    for (std::uint64_t at = 0; at < record.size;) {
        const auto part =
            std::span(chunk).first(static_cast<std::size_t>(std::min<std::uint64_t>(kChunk, record.size - at)));
        const std::uint64_t there =
            at < content->size() ? std::min<std::uint64_t>(part.size(), content->size() - at) : 0;
        std::fill(part.begin(), part.end(), std::byte{0});
        const std::size_t gaps_before = written.gaps.size();
        if (there > 0) DREDGER_CHECK(content->read(at, part.first(static_cast<std::size_t>(there)), &written.gaps));
        if (there < part.size()) written.gaps.push_back({at + there, part.size() - there});
        for (std::size_t i = gaps_before; i < written.gaps.size(); ++i) written.missing += written.gaps[i].length;
        if (!file.write(part)) return unwritable(target);
        digest.add(part);
        at += part.size();
        if (!step(part.size())) {
            written.interrupted = true;
            return written;
        }
    }
    if (!file.keep_as(target)) return unwritable(target);
    written.sha256 = digest.finish();
    return written;
}

bool sync_folder(const fs::path& folder) {
    const int descriptor = ::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    const bool synced = descriptor >= 0 && ::syncfs(descriptor) == 0;
    if (descriptor >= 0) ::close(descriptor);
    return synced;
}

void set_mode_and_times(const fs::path& target, const Record& record) {
    if (const auto permissions = permissions_of(record)) {
        constexpr unsigned kOwnFile = 0600, kOwnFolder = 0700;
        ::chmod(target.c_str(), *permissions | (record.is_folder ? kOwnFolder : kOwnFile));
    }
    const timespec times[2] = {time_for(record.accessed ? record.accessed : record.modified),
                               time_for(record.modified)};
    ::utimensat(AT_FDCWD, target.c_str(), times, AT_SYMLINK_NOFOLLOW);
}

}  // namespace dredger
