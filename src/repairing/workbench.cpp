#include "repairing/workbench.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>
#include <utility>

#include "base/file_io.h"
#include "media/file_medium.h"

namespace dredger::repairing {

namespace {

constexpr std::size_t kChunk = 1 << 20;  // bytes

tl::unexpected<Error> no_result(int why, const std::filesystem::path& where) {
    return not_written("a result can't be written", where.string(),
                       "make room and run it again, or choose another folder with --to", why);
}

}  // namespace

Result<Output> Output::create(const std::filesystem::path& folder) {
    const int descriptor = nameless_file(folder);
    if (descriptor < 0) return no_result(errno, folder);
    const mode_t mask = ::umask(0);
    ::umask(mask);
    (void)::fchmod(descriptor, 0666 & ~mask);
    return Output(descriptor, folder);
}

Output::Output(Output&& other) noexcept
    : descriptor_(std::exchange(other.descriptor_, -1)),
      folder_(std::move(other.folder_)),
      size_(other.size_),
      waiting_(std::move(other.waiting_)),
      failed_(other.failed_) {}

Output& Output::operator=(Output&& other) noexcept {
    std::swap(descriptor_, other.descriptor_);
    std::swap(folder_, other.folder_);
    std::swap(size_, other.size_);
    std::swap(waiting_, other.waiting_);
    std::swap(failed_, other.failed_);
    return *this;
}

Output::~Output() {
    if (descriptor_ >= 0) ::close(descriptor_);
}

void Output::add(std::span<const std::byte> bytes) {
    waiting_.append(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    size_ += bytes.size();
    if (waiting_.size() >= kChunk) flush();
}

void Output::add(const Medium& content, std::uint64_t at, std::uint64_t length) {
    std::vector<std::byte> chunk;
    std::vector<Extent> bad;
    length = std::min(length, content.size() - std::min(at, content.size()));
    for (std::uint64_t done = 0; done < length && failed_ == 0;) {
        chunk.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kChunk, length - done)));
        if (!content.read(at + done, chunk, &bad)) std::fill(chunk.begin(), chunk.end(), std::byte{0});
        add(chunk);
        done += chunk.size();
    }
}

void Output::replace(std::uint64_t at, std::string_view bytes) {
    flush();
    if (failed_ == 0 && !write_all(descriptor_, at, std::as_bytes(std::span(bytes)))) failed_ = errno;
}

void Output::flush() {
    if (failed_ == 0 && !write_all(descriptor_, size_ - waiting_.size(), std::as_bytes(std::span(waiting_))))
        failed_ = errno;
    waiting_.clear();
}

MediumPtr Output::content() const {
    const auto medium = FileMedium::open("/proc/self/fd/" + std::to_string(descriptor_));
    return medium ? *medium : nullptr;
}

Result<void> Output::finish() {
    flush();
    if (failed_ != 0) return no_result(failed_, folder_);
    return {};
}

Result<bool> Output::place(const std::filesystem::path& target) {
    DREDGER_CHECK(finish());
    const std::string self = "/proc/self/fd/" + std::to_string(descriptor_);
    if (::linkat(AT_FDCWD, self.c_str(), AT_FDCWD, target.c_str(), AT_SYMLINK_FOLLOW) == 0) return true;
    if (errno == EEXIST) return false;
    // Some file systems have no nameless files that could get a name: then it is copied.
    const int named = ::open(target.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
    if (named < 0) {
        if (errno == EEXIST) return false;
        return no_result(errno, target);
    }
    std::vector<std::byte> chunk(kChunk);
    bool is_written = true;
    for (std::uint64_t at = 0; at < size_ && is_written; at += chunk.size()) {
        chunk.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kChunk, size_ - at)));
        is_written = read_all(descriptor_, at, chunk) == chunk.size() && write_all(named, at, chunk);
    }
    const int why = errno;
    is_written = ::close(named) == 0 && is_written;
    if (is_written) return true;
    ::unlink(target.c_str());
    return no_result(why, target);
}

Budget Workbench::budget() const {
    return Budget({64 << 20, 64, 256 << 20, 4096}, [this] { return should_stop(); });
}

}  // namespace dredger::repairing
