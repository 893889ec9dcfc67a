#include "support/support.h"

#include <array>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fcntl.h>
#include <fstream>
#include <nlohmann/json.hpp>
#include <random>
#include <sstream>
#include <stdexcept>
#include <sys/wait.h>
#include <unistd.h>
#include <zstd.h>

#include "base/digest.h"
#include "support/child.h"

extern "C" void __asan_init() __attribute__((weak));

namespace dredger::test {
namespace {

namespace fs = std::filesystem;

fs::path place_of(const std::string& file) {
    for (const char* folder : {DREDGER_FIXTURES, DREDGER_DEMO})
        if (fs::exists(fs::path(folder) / file)) return fs::path(folder) / file;
    throw std::runtime_error("no fixture " + file);
}

}  // namespace

bool is_watched() { return __asan_init != nullptr; }

TempFolder::TempFolder() {
    std::string pattern = (fs::temp_directory_path() / "dredger-test-XXXXXX").string();
    if (::mkdtemp(pattern.data()) == nullptr) throw std::runtime_error("no temporary folder");
    path_ = pattern;
}

TempFolder::~TempFolder() {
    std::error_code failed;
    fs::permissions(path_, fs::perms::owner_all, failed);
    fs::remove_all(path_, failed);
}

namespace {

// The first `most` bytes of a packed file at most.
std::vector<std::byte> unpack_file(const fs::path& file, std::size_t most) {
    const std::string packed = read_text(file);
    std::vector<std::byte> bytes(most);
    ZSTD_DCtx* context = ZSTD_createDCtx();
    ZSTD_DCtx_setParameter(context, ZSTD_d_windowLogMax, 27);
    const std::size_t n = ZSTD_decompressDCtx(context, bytes.data(), bytes.size(), packed.data(), packed.size());
    ZSTD_freeDCtx(context);
    if (ZSTD_isError(n) != 0U) throw std::runtime_error("a damaged fixture: " + file.string());
    bytes.resize(n);
    return bytes;
}

}  // namespace

std::vector<std::byte> unpacked(const std::string& name) {
    const auto size = truth_of(name)["image_bytes"].get<std::size_t>();
    auto image = unpack_file(place_of(name + ".img.zst"), size);
    if (image.size() != size) throw std::runtime_error("a damaged fixture: " + name);
    return image;
}

namespace {

// The files of an archive of at most `most` bytes; names without folders.
std::map<std::string, std::vector<std::byte>> unpack_archive(const std::string& name, std::size_t most) {
    constexpr std::size_t kBlock = 512;
    const auto tar = unpack_file(place_of(name), most);
    std::map<std::string, std::vector<std::byte>> files;
    for (std::size_t at = 0; at + kBlock <= tar.size() && tar[at] != std::byte{0};) {
        const auto* header = reinterpret_cast<const char*>(tar.data()) + at;
        const std::size_t size = std::stoull(std::string(header + 124, 11), nullptr, 8);
        const auto start = tar.begin() + static_cast<std::ptrdiff_t>(at + kBlock);
        if (header[156] == '0')
            files[fs::path(header).filename()] =
                std::vector<std::byte>(start, start + static_cast<std::ptrdiff_t>(size));
        at += kBlock + (size + kBlock - 1) / kBlock * kBlock;
    }
    return files;
}

}  // namespace

std::map<std::string, std::vector<std::byte>> samples() { return unpack_archive("samples.tar.zst", 8 << 20); }

void unpack_disk_images(const fs::path& folder, const std::set<std::string>& names) {
    for (const auto& [name, bytes] : unpack_archive("disk-images.tar.zst", 192 << 20))
        if (names.empty() || names.contains(name))
            write_text(folder / name, {reinterpret_cast<const char*>(bytes.data()), bytes.size()});
}

fs::path unpack_to(const std::string& name, const fs::path& folder) {
    const auto image = unpacked(name);
    const fs::path file = folder / (name + ".img");
    std::ofstream(file, std::ios::binary)
        .write(reinterpret_cast<const char*>(image.data()), static_cast<std::streamsize>(image.size()));
    return file;
}

nlohmann::json truth_of(const std::string& name) {
    return nlohmann::json::parse(read_text(place_of(name + ".truth.json")));
}

std::vector<std::byte> bytes_of(std::string_view text) {
    const auto bytes = std::as_bytes(std::span(text));
    return {bytes.begin(), bytes.end()};
}

std::string read_text(const fs::path& file) {
    std::ifstream in(file, std::ios::binary);
    std::stringstream text;
    text << in.rdbuf();
    return text.str();
}

void write_text(const fs::path& file, std::string_view text) {
    std::ofstream(file, std::ios::binary).write(text.data(), static_cast<std::streamsize>(text.size()));
}

std::string sha256_of(const fs::path& file) {
    Sha256 digest;
    digest.add(bytes_of(read_text(file)));
    return digest.finish();
}

void MemoryMedium::patch32(std::uint64_t offset, std::uint32_t value) {
    for (unsigned i = 0; i < 4; ++i) patch(offset + i, static_cast<std::uint8_t>(value >> (8 * i)));
}

namespace {

// For each 64 KiB of a large image whether all of it is zeros; found out once for all media of the same bytes.
constexpr std::uint64_t kZeroUnit = 64 << 10, kLargeImage = 64 << 20;  // bytes

const std::vector<bool>& zero_units(const std::shared_ptr<const std::vector<std::byte>>& bytes) {
    static std::weak_ptr<const std::vector<std::byte>> known;
    static std::vector<bool> units;
    if (known.lock() == bytes) return units;
    known = bytes;
    units.clear();
    for (std::size_t at = 0; at < bytes->size(); at += kZeroUnit) {
        const std::size_t length = std::min<std::size_t>(kZeroUnit, bytes->size() - at);
        const std::byte* first = bytes->data() + at;
        units.push_back(*first == std::byte{0} && std::memcmp(first, first + 1, length - 1) == 0);
    }
    return units;
}

}  // namespace

std::uint64_t MemoryMedium::zeros_from(std::uint64_t offset) const {
    if (bytes_->size() < kLargeImage) return 0;
    const auto& units = zero_units(bytes_);
    std::uint64_t end = offset;
    while (end < size() && units[static_cast<std::size_t>(end / kZeroUnit)]) end = (end / kZeroUnit + 1) * kZeroUnit;
    end = std::min(end, size());
    if (const auto patch = patches_.lower_bound(offset); patch != patches_.end()) end = std::min(end, patch->first);
    return end - offset;
}

Result<void> MemoryMedium::read_within(std::uint64_t offset, std::span<std::byte> into,
                                       std::vector<Extent>& bad) const {
    std::copy_n(bytes_->begin() + static_cast<std::ptrdiff_t>(offset), into.size(), into.begin());
    for (auto p = patches_.lower_bound(offset); p != patches_.end() && p->first < offset + into.size(); ++p)
        into[static_cast<std::size_t>(p->first - offset)] = p->second;
    for (const Extent& b : bad_) {
        const std::uint64_t first = std::max(b.offset, offset);
        const std::uint64_t last = std::min(b.end(), offset + into.size());
        if (first >= last) continue;
        std::fill_n(into.begin() + static_cast<std::ptrdiff_t>(first - offset), last - first, std::byte{0});
        bad.push_back({first, last - first});
    }
    return {};
}

std::vector<std::byte> noise(std::size_t size, unsigned seed) {
    std::mt19937 random(seed);
    std::vector<std::byte> bytes(size);
    for (std::byte& b : bytes) b = static_cast<std::byte>(random());
    return bytes;
}

Said shell(const std::string& command) {
    Said said;
    FILE* pipe = ::popen(("exec 2>&1; " + command).c_str(), "r");
    if (pipe == nullptr) return said;
    std::array<char, 4096> bytes{};
    for (std::size_t had = 0; (had = std::fread(bytes.data(), 1, bytes.size(), pipe)) > 0;)
        said.out.append(bytes.data(), had);
    const int status = ::pclose(pipe);
    said.exit_code = WIFEXITED(status) ? WEXITSTATUS(status) : -1;
    return said;
}

bool is_installed(const std::string& program) { return shell("command -v " + program).exit_code == 0; }

Ran run_on_terminal(const std::vector<std::string>& words, unsigned columns, const std::string& before) {
    const auto [child, terminal] = start_on_terminal(words, columns, before);
    Ran ran;
    std::array<char, 4096> part{};
    for (ssize_t n = 0; (n = ::read(terminal, part.data(), part.size())) > 0;)
        ran.out.append(part.data(), static_cast<std::size_t>(n));
    ran.exit_code = exit_code_of(child);
    ::close(terminal);
    return ran;
}

std::vector<std::string> lines_on_terminal(const std::string& written) {
    std::vector<std::string> lines(1);
    for (std::size_t at = 0; at < written.size(); ++at) {
        if (written[at] == '\x1B') {
            const std::size_t end = written.find_first_of("mK", at);
            at = std::min(end, written.size());
        } else if (written[at] == '\n') {
            lines.emplace_back();
        } else if (written[at] == '\r') {
            if (at + 1 < written.size() && written[at + 1] != '\n') lines.back().clear();
        } else {
            lines.back() += written[at];
        }
    }
    return lines;
}

Ran run_program(const std::vector<std::string>& words, const RunOptions& options) {
    const TempFolder folder;
    const std::string out = (folder / "out").string();
    const std::string err = (folder / "err").string();
    const ::pid_t child = ::fork();
    if (child == 0) {
        const int null = ::open("/dev/null", O_RDONLY);
        const int to_out = ::open(out.c_str(), O_WRONLY | O_CREAT, 0600);
        const int to_err = ::open(err.c_str(), O_WRONLY | O_CREAT, 0600);
        ::dup2(null, 0);
        ::dup2(to_out, 1);
        ::dup2(to_err, 2);
        become(options.program, words, options.before);
    }
    if (options.signal != 0) {
        ::usleep(static_cast<useconds_t>(options.after_milliseconds) * 1000);
        ::kill(child, options.signal);
    }
    const int exit_code = exit_code_of(child);
    return {exit_code, read_text(out), read_text(err)};
}

}  // namespace dredger::test
