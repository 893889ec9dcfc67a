#include "restoring/file_writer.h"

#include <array>
#include <boost/endian/arithmetic.hpp>
#include <cerrno>
#include <charconv>
#include <cstring>
#include <ctime>
#include <fcntl.h>
#include <fmt/format.h>
#include <future>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/digest.h"
#include "base/file_io.h"
#include "filesystems/posix.h"
#include "media/content.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kChunk = 1 << 20;    // bytes
constexpr std::uint64_t kLarge = 8 << 20;  // bytes; two threads work on such a file
constexpr std::uint64_t kZerosAtOnce = 64 << 20;
constexpr std::uint64_t kSyncAlone = 1 << 20;  // bytes; larger files are on the drive before they get their name

tl::unexpected<Error> unwritable(const fs::path& target) {
    return not_written("can't be written", target.string(),
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

constexpr const char* kNtfsMaking = "system.ntfs_crtime_be";
constexpr const char* kShareMaking = "user.cifs.creationtime";

void set_time_of_making(int descriptor, const FileEntry& record, MakingTime way) {
    const timespec time = time_for(record.created);
    if (way == MakingTime::none || time.tv_nsec == UTIME_OMIT) return;
    constexpr std::int64_t kFrom1601To1970 = 11'644'473'600;  // seconds
    const auto steps = static_cast<std::uint64_t>((time.tv_sec + kFrom1601To1970) * 10'000'000 + time.tv_nsec / 100);
    const boost::endian::big_uint64_t ntfs(steps);
    const boost::endian::little_uint64_t share(steps);
    if (way == MakingTime::ntfs)
        ::fsetxattr(descriptor, kNtfsMaking, &ntfs, sizeof ntfs, 0);
    else
        ::fsetxattr(descriptor, kShareMaking, &share, sizeof share, XATTR_REPLACE);
}

struct Owner {
    unsigned user = 0, group = 0;
};

std::optional<Owner> owner_of(const FileEntry& record) {
    for (const Fact& fact : record.facts) {
        if (fact.name != "owner") continue;
        Owner owner;
        const char* const end = fact.value.data() + fact.value.size();
        const auto first = std::from_chars(fact.value.data(), end, owner.user);
        if (first.ec == std::errc() && first.ptr != end && *first.ptr == ':' &&
            std::from_chars(first.ptr + 1, end, owner.group).ec == std::errc())
            return owner;
    }
    return std::nullopt;
}

// What is so already is not set again: each change is one more for the destination's journal.
void set_facts(int descriptor, const FileEntry& record, MakingTime way) {
    struct stat there {};
    if (::fstat(descriptor, &there) != 0) return;
    static const bool is_permitted = ::geteuid() == 0;
    if (const auto owner = owner_of(record);
        owner && is_permitted && (owner->user != there.st_uid || owner->group != there.st_gid))
        (void)!::fchown(descriptor, owner->user, owner->group);
    if (const auto permissions = permissions_of(record)) {
        constexpr unsigned kOwnFile = 0600, kOwnFolder = 0700, kAll = 07777;
        const unsigned wanted = *permissions | (record.is_folder ? kOwnFolder : kOwnFile);
        if (wanted != (there.st_mode & kAll)) ::fchmod(descriptor, wanted);
    }
    set_time_of_making(descriptor, record, way);
    const timespec times[2] = {time_for(record.accessed ? record.accessed : record.modified),
                               time_for(record.modified)};
    ::futimens(descriptor, times);
}

void add_zeros(ContentSum& digest, std::uint64_t length) {
    // So few that they stay in the processor's nearest memory.
    static constexpr std::array<std::byte, 32 << 10> kZeros{};
    for (; length > kZeros.size(); length -= kZeros.size()) digest.add(kZeros);
    digest.add(std::span(kZeros).first(static_cast<std::size_t>(length)));
}

}  // namespace

MakingTime making_time_of(const fs::path& folder) {
    if (::getxattr(folder.c_str(), kNtfsMaking, nullptr, 0) > 0) return MakingTime::ntfs;
    if (::getxattr(folder.c_str(), kShareMaking, nullptr, 0) > 0) return MakingTime::share;
    return MakingTime::none;
}

Result<StagedFile> StagedFile::create(const fs::path& path) {
    StagedFile file;
    file.descriptor_ = ::open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC | O_NOFOLLOW, 0644);
    if (file.descriptor_ < 0) return unwritable(path);
    file.path_ = path;
    return file;
}

StagedFile& StagedFile::operator=(StagedFile&& other) noexcept {
    discard();
    path_ = std::exchange(other.path_, {});
    descriptor_ = std::exchange(other.descriptor_, -1);
    return *this;
}

bool StagedFile::write(std::uint64_t offset, std::span<const std::byte> bytes) const {
    return write_all(descriptor_, offset, bytes);
}

bool StagedFile::finish(std::uint64_t size, std::uint64_t written) const {
    // Waiting for the drive after each of many small files would take most of the time; DriveSync does it for all.
    const bool sized = written == size || ::ftruncate(descriptor_, static_cast<off_t>(size)) == 0;
    return sized && (written < kSyncAlone || ::fsync(descriptor_) == 0);
}

Result<void> StagedFile::complete(const FileEntry& record, MakingTime way) {
    set_facts(descriptor_, record, way);
    // Some file systems tell only now that there is no room.
    if (::close(std::exchange(descriptor_, -1)) != 0) return unwritable(path_);
    return {};
}

Result<void> StagedFile::place(const PathBeneath& target) {
    if (const auto failed = rename_beneath(path_, target)) {
        errno = failed.value();
        return unwritable(target.whole());
    }
    path_.clear();
    return {};
}

void StagedFile::discard() {
    if (descriptor_ >= 0) ::close(std::exchange(descriptor_, -1));
    if (!path_.empty()) ::unlink(path_.c_str());
    path_.clear();
}

Result<WrittenFile> write_file(const MediumPtr& medium, const MediumLayout& layout, const FileEntry& record,
                               const fs::path& staged, SumKind sums, WritingWatch& watch) {
    WrittenFile written;
    DREDGER_TRY(written.file, StagedFile::create(staged));
    StagedFile& file = written.file;
    ContentSum digest(sums);
    const auto content = open_content(medium, layout, record.size);
    // Of a large file one stretch is hashed while the next one is read and written.
    const bool is_large = record.size >= kLarge;
    std::vector<std::byte> chunks[2];
    chunks[0].resize(static_cast<std::size_t>(std::min<std::uint64_t>(kChunk, record.size)));
    if (is_large) chunks[1].resize(kChunk);
    std::size_t turn = 0;
    std::future<void> hashing;
    const auto hashed = [&] {
        if (hashing.valid()) hashing.get();
    };
    const auto hash = [&](auto job) {
        hashed();
        if (is_large)
            hashing = std::async(std::launch::async, job);
        else
            job();
    };
    std::uint64_t stored = 0, end_of_stored = 0;
    for (std::uint64_t at = 0; at < record.size;) {
        if (watch.stop) {
            written.interrupted = true;
            return written;
        }
        if (const std::uint64_t zeros = content->zeros_from(at); zeros > 0) {
            const std::uint64_t length = std::min({zeros, record.size - at, kZerosAtOnce});
            hash([&digest, length] { add_zeros(digest, length); });
            at += length;
            watch.written += length;
            continue;
        }
        const auto part =
            std::span(chunks[turn]).first(static_cast<std::size_t>(std::min<std::uint64_t>(kChunk, record.size - at)));
        const std::uint64_t there = at < content->size() ? content->size() - at : 0;
        const auto readable = part.first(static_cast<std::size_t>(std::min<std::uint64_t>(part.size(), there)));
        const std::size_t gaps_before = written.gaps.size();
        if (!readable.empty()) DREDGER_CHECK(content->read(at, readable, &written.gaps));
        std::fill(part.begin() + static_cast<std::ptrdiff_t>(readable.size()), part.end(), std::byte{0});
        if (readable.size() < part.size())
            written.gaps.push_back({at + readable.size(), part.size() - readable.size()});
        for (std::size_t i = gaps_before; i < written.gaps.size(); ++i) written.missing += written.gaps[i].length;
        if (!file.write(at, part)) return unwritable(staged);
        hash([&digest, part] { digest.add(part); });
        if (is_large) turn = 1 - turn;
        stored += part.size();
        end_of_stored = at + part.size();
        at += part.size();
        watch.written += part.size();
    }
    hashed();
    if (!file.finish(record.size, end_of_stored == record.size ? record.size : stored)) return unwritable(staged);
    written.sum = digest.finish();
    return written;
}

std::string read_back(const fs::path& file, SumKind sums) {
    const int descriptor = ::open(file.c_str(), O_RDONLY | O_CLOEXEC);
    if (descriptor < 0) return {};
    ::fsync(descriptor);
    ::posix_fadvise(descriptor, 0, 0, POSIX_FADV_DONTNEED);
    ContentSum digest(sums);
    std::vector<std::byte> chunk(kChunk);
    ssize_t n = 0;
    while ((n = ::read(descriptor, chunk.data(), chunk.size())) > 0 || (n < 0 && errno == EINTR))
        if (n > 0) digest.add(std::span(chunk).first(static_cast<std::size_t>(n)));
    ::close(descriptor);
    return n < 0 ? std::string() : digest.finish();
}

void set_folder_facts(const fs::path& folder, const FileEntry& record, MakingTime way) {
    const int descriptor = ::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (descriptor < 0) return;
    set_facts(descriptor, record, way);
    ::close(descriptor);
}

}  // namespace dredger
