// faulty_medium IMAGE FAULTS FOLDER: shows the image as FOLDER/medium.img, whose reads fail where FAULTS, a file that
// is read anew each time, says so: a line "OFFSET LENGTH [ERROR]" each (ERROR: a number, 5 is EIO), or "gone".
#define FUSE_USE_VERSION 31
#include <algorithm>
#include <cerrno>
#include <cstdint>
#include <cstring>
#include <fcntl.h>
#include <filesystem>
#include <fstream>
#include <fuse.h>
#include <sstream>
#include <string>
#include <sys/stat.h>
#include <unistd.h>
#include <utility>

namespace fs = std::filesystem;

namespace {

constexpr const char* kName = "/medium.img";
int image = -1;
std::uint64_t image_size = 0;
std::string faults;
fs::file_time_type faults_changed;
unsigned reads = 0;  // since then

// What a read of these bytes fails with; 0: it doesn't.
int fault_in(std::uint64_t offset, std::uint64_t length) {
    if (const auto changed = fs::last_write_time(faults); std::exchange(faults_changed, changed) != changed) reads = 0;
    ++reads;
    std::ifstream in(faults);
    for (std::string line; std::getline(in, line);) {
        std::istringstream words(line);
        std::string word;
        unsigned reads_left = 0;
        if (line.starts_with("gone") && words >> word) {
            words >> reads_left;
            if (reads > reads_left) return EIO;
            continue;
        }
        std::uint64_t from = 0, bytes = 0;
        int error = EIO;
        if (!(words >> from >> bytes)) continue;
        if (int told = 0; words >> told) error = told;
        if (offset < from + bytes && from < offset + length) return error;
    }
    return 0;
}

int get_facts(const char* path, struct stat* facts, fuse_file_info*) {
    std::memset(facts, 0, sizeof *facts);
    const bool is_root = std::strcmp(path, "/") == 0;
    if (!is_root && std::strcmp(path, kName) != 0) return -ENOENT;
    facts->st_mode = is_root ? S_IFDIR | 0555 : S_IFREG | 0444;
    facts->st_nlink = 1;
    if (!is_root) facts->st_size = static_cast<off_t>(image_size);
    return 0;
}

int list_folder(const char*, void* into, fuse_fill_dir_t add, off_t, fuse_file_info*, fuse_readdir_flags) {
    add(into, kName + 1, nullptr, 0, fuse_fill_dir_flags{});
    return 0;
}

int open_it(const char* path, fuse_file_info* file) {
    file->direct_io = 1;
    return std::strcmp(path, kName) == 0 ? 0 : -ENOENT;
}

int read_it(const char*, char* into, std::size_t length, off_t offset, fuse_file_info*) {
    if (const int error = fault_in(static_cast<std::uint64_t>(offset), length)) return -error;
    const ssize_t n = ::pread(image, into, length, offset);
    return n < 0 ? -errno : static_cast<int>(n);
}

}  // namespace

int main(int count, char** words) {
    if (count < 4) return 2;
    image = ::open(words[1], O_RDONLY | O_CLOEXEC);
    struct stat facts {};
    if (image < 0 || ::fstat(image, &facts) != 0) return 3;
    image_size = static_cast<std::uint64_t>(facts.st_size);
    faults = words[2];
    fuse_operations operations{};
    operations.getattr = get_facts;
    operations.readdir = list_folder;
    operations.open = open_it;
    operations.read = read_it;
    char foreground[] = "-f", one_thread[] = "-s";
    char* rest[] = {words[0], words[3], foreground, one_thread, nullptr};
    return fuse_main(4, rest, &operations, nullptr);
}
