// A folder of files as a medium: an archive of them that is never written, in the interchange format of tar (POSIX
// 1003.1-2017, pax), with long names as GNU tar writes them. So a folder in which a mail program keeps its messages is
// read like a file, and whoever reads it needs no other way to files than a medium.
#include <algorithm>
#include <fmt/format.h>
#include <mutex>

#include "base/checked.h"
#include "media/images/image.h"

namespace dredger::images {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kBlock = 512;
constexpr std::size_t kMostFiles = 4 << 20;
constexpr std::size_t kNameField = 100;  // bytes

std::string header_of(const std::string& name, std::uint64_t size, char type) {
    std::string block(kBlock, '\0');
    const auto put = [&](std::size_t at, std::string_view text) {
        std::copy(text.begin(), text.end(), block.begin() + static_cast<std::ptrdiff_t>(at));
    };
    put(0, std::string_view(name).substr(0, kNameField));
    put(100, "0000444");
    put(108, "0000000");
    put(116, "0000000");
    put(124, fmt::format("{:011o}", size));
    put(136, "00000000000");
    put(148, "        ");
    block[156] = type;
    put(257, std::string_view("ustar\0", 6));
    put(263, "00");
    unsigned sum = 0;
    for (const char c : block) sum += static_cast<unsigned char>(c);
    put(148, fmt::format("{:06o}", sum));
    block[154] = '\0';
    return block;
}

class FolderMedium final : public Medium {
  public:
    explicit FolderMedium(fs::path folder) : folder_(std::move(folder)) {}

    void add(const std::string& name, std::uint64_t size) {
        std::string head;
        if (name.size() >= kNameField) {
            head = header_of("././@LongLink", name.size() + 1, 'L') + name;
            head.resize(divide_up(head.size() + 1, kBlock) * kBlock);
        }
        head += header_of(name, size, '0');
        pieces_.push_back({size_, std::move(head), {}, 0});
        size_ += pieces_.back().text.size();
        if (size == 0) return;
        pieces_.push_back({size_, {}, folder_ / name, size});
        size_ += divide_up(size, kBlock) * kBlock;
    }
    void finish() {
        pieces_.push_back({size_, std::string(2 * kBlock, '\0'), {}, 0});
        size_ += 2 * kBlock;
    }

    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return 1; }
    std::string name() const override { return folder_.string(); }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override {
        std::fill(into.begin(), into.end(), std::byte{0});
        const std::uint64_t end = offset + into.size();
        auto piece = std::upper_bound(pieces_.begin(), pieces_.end(), offset,
                                      [](std::uint64_t at, const Piece& p) { return at < p.start; });
        if (piece != pieces_.begin()) --piece;
        for (; piece != pieces_.end() && piece->start < end; ++piece) {
            const std::uint64_t length = piece->file.empty() ? piece->text.size() : piece->length;
            const std::uint64_t from = std::max(piece->start, offset), to = std::min(piece->start + length, end);
            if (from >= to) continue;
            const auto part =
                into.subspan(static_cast<std::size_t>(from - offset), static_cast<std::size_t>(to - from));
            if (piece->file.empty()) {
                const auto text =
                    std::as_bytes(std::span(piece->text)).subspan(static_cast<std::size_t>(from - piece->start));
                std::copy_n(text.begin(), part.size(), part.begin());
                continue;
            }
            const FilePtr file = opened(piece->file);
            std::vector<Extent> lost;
            if (!file || !file->read(from - piece->start, part, &lost)) lost = {{from - piece->start, part.size()}};
            for (const Extent& gone : lost) bad.push_back({piece->start + gone.offset, gone.length});
        }
        return {};
    }

  private:
    struct Piece {
        std::uint64_t start;
        std::string text;  // of a header
        fs::path file;     // whose content it is; empty: the text
        std::uint64_t length;
    };

    FilePtr opened(const fs::path& path) const {
        const std::lock_guard lock(mutex_);
        if (last_path_ != path) {
            auto file = FileMedium::open(path);
            last_ = file ? FilePtr(std::move(*file)) : nullptr;
            last_path_ = path;
        }
        return last_;
    }

    fs::path folder_;
    std::vector<Piece> pieces_;
    std::uint64_t size_ = 0;
    mutable std::mutex mutex_;
    mutable fs::path last_path_;
    mutable FilePtr last_;
};

}  // namespace

Result<MediumPtr> open_folder(const fs::path& folder, Opening& opening) {
    std::vector<std::pair<std::string, std::uint64_t>> files;
    std::error_code failed;
    for (fs::recursive_directory_iterator at(folder, fs::directory_options::skip_permission_denied, failed), end;
         !failed && at != end && files.size() < kMostFiles; at.increment(failed)) {
        std::error_code unknown;
        if (at->is_symlink(unknown) || !at->is_regular_file(unknown)) continue;
        const std::uint64_t size = at->file_size(unknown);
        if (!unknown) files.emplace_back(at->path().lexically_relative(folder).generic_string(), size);
    }
    if (files.empty())
        return fail(ErrorKind::not_understood, "this folder has no files to read", folder.string(),
                    "name a device, an image, or a folder of mail");
    std::sort(files.begin(), files.end());
    auto medium = std::make_shared<FolderMedium>(folder);
    for (const auto& [name, size] : files) medium->add(name, size);
    medium->finish();
    opening.set_form(fmt::format("folder of {} files", files.size()));
    return medium;
}

}  // namespace dredger::images
