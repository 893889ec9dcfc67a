// What tests share: folders that vanish, fixture media with their truth, media in memory, the built program.
#pragma once

#include <filesystem>
#include <map>
#include <nlohmann/json_fwd.hpp>
#include <set>
#include <string>
#include <vector>

#include "base/observer.h"
#include "media/medium.h"
#include "restoring/restore.h"

namespace dredger::test {

// Whether the library that is linked is the one that the sanitizers watch.
bool is_watched();

// A folder of its own for a test, removed behind it.
class TempFolder {
  public:
    TempFolder();
    ~TempFolder();
    TempFolder(const TempFolder&) = delete;
    TempFolder& operator=(const TempFolder&) = delete;
    std::filesystem::path operator/(const std::string& name) const { return path_ / name; }
    const std::filesystem::path& path() const { return path_; }

  private:
    std::filesystem::path path_;
};

// A medium made by real drivers, with the truth beside it: "fat12-floppy", "ringing-station-drive" ...
std::vector<std::byte> unpacked(const std::string& name);
std::filesystem::path unpack_to(const std::string& name, const std::filesystem::path& folder);
nlohmann::json truth_of(const std::string& name);

// Small files of many formats, by name: "jpeg-progressive.jpg". What stands before the dash is the format.
std::map<std::string, std::vector<std::byte>> samples();

// Virtual disks and packed images of one medium, into a folder; all of them where no names are given.
void unpack_disk_images(const std::filesystem::path& folder, const std::set<std::string>& names = {});

std::vector<std::byte> bytes_of(std::string_view text);
std::string read_text(const std::filesystem::path& file);
void write_text(const std::filesystem::path& file, std::string_view text);
std::string sha256_of(const std::filesystem::path& file);

// Bytes in memory, some of which may be changed or unreadable.
class MemoryMedium final : public Medium {
  public:
    explicit MemoryMedium(std::shared_ptr<const std::vector<std::byte>> bytes) : bytes_(std::move(bytes)) {}
    explicit MemoryMedium(std::vector<std::byte> bytes)
        : bytes_(std::make_shared<const std::vector<std::byte>>(std::move(bytes))) {}

    void patch(std::uint64_t offset, std::uint8_t value) { patches_[offset] = std::byte{value}; }
    void patch32(std::uint64_t offset, std::uint32_t value);
    void make_unreadable(Extent extent) { bad_.push_back(extent); }
    // As if it ended here.
    void cut_at(std::uint64_t size) { size_ = size; }

    std::uint64_t size() const override { return std::min<std::uint64_t>(size_, bytes_->size()); }
    std::uint32_t sector_size() const override { return 512; }
    std::string name() const override { return "memory"; }
    std::uint64_t zeros_from(std::uint64_t offset) const override;

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    std::shared_ptr<const std::vector<std::byte>> bytes_;
    std::map<std::uint64_t, std::byte> patches_;
    std::vector<Extent> bad_;
    std::uint64_t size_ = ~std::uint64_t{0};
};

// Keeps what it hears, and stops when told to.
class Listener final : public RestoreObserver {
  public:
    void progress(const Progress& progress) override {
        last = progress;
        if (stop_after_calls > 0 && --stop_after_calls == 0) stop = true;
    }
    void warning(const std::string& sentence) override { warnings.push_back(sentence); }
    bool should_stop() override {
        return stop || (stop_after_questions > 0 && --stop_after_questions == 0 && (stop = true));
    }
    void item(const RestoredItem& item) override { outcomes[item.candidate.record.path()] = item.outcome; }

    Progress last{};
    std::vector<std::string> warnings;
    std::map<std::string, Outcome> outcomes;
    int stop_after_calls = 0;
    int stop_after_questions = 0;
    bool stop = false;
};

// The built program, run to its end. It has no terminal.
struct Ran {
    int exit_code = -1;
    std::string out;
    std::string err;
};
struct RunOptions {
    std::string before;  // shell words before the program: "ulimit -f 100;"
    int signal = 0;      // sent to it after `after_milliseconds`
    int after_milliseconds = 0;
    std::string program = "dredger";  // of those that are built with the tests
};
Ran run_program(const std::vector<std::string>& words, const RunOptions& options = {});

// Bytes that nothing tells, the same for the same seed.
std::vector<std::byte> noise(std::size_t size, unsigned seed);

// A command line for /bin/sh; what it says on stderr is in `out`, too.
struct Said {
    int exit_code = -1;
    std::string out;
};
Said shell(const std::string& command);
bool is_installed(const std::string& program);

// The same on a terminal of so many columns, that shows no pages; what it wrote, errors among it, is in `out`. `before`
// as above.
Ran run_on_terminal(const std::vector<std::string>& words, unsigned columns, const std::string& before = "PAGER=cat");
// What stood in its lines in the end, without colours.
std::vector<std::string> lines_on_terminal(const std::string& written);

}  // namespace dredger::test
