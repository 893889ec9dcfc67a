// Sparse bundles, in which a Mac keeps a disk image or a backup: a folder with a property list that tells the disk's
// size and that of a band, and a folder of bands, each a file named with its number in hexadecimal. A band that is
// missing or short is zeros there. Source: the keys of Info.plist as macOS writes them.
#include <charconv>
#include <fmt/format.h>
#include <pugixml.hpp>

#include "base/checked.h"
#include "media/images/image.h"
#include "media/images/runs.h"

namespace dredger::images {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kMostBands = 1 << 22;

// A band, opened for each read: a bundle has more of them than files may be open.
class Band final : public Medium {
  public:
    Band(fs::path path, std::uint64_t size) : path_(std::move(path)), size_(size) {}

    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return 512; }
    std::string name() const override { return path_.string(); }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override {
        DREDGER_TRY(const auto file, FileMedium::open(path_));
        return file->read(offset, into, &bad);
    }

  private:
    fs::path path_;
    std::uint64_t size_;
};

// The number that stands behind its key.
std::optional<std::uint64_t> number_of(const pugi::xml_document& list, const char* key) {
    const auto found = list.select_node(fmt::format("//key[.='{}']/following-sibling::integer[1]", key).c_str());
    const std::string text = found ? found.node().text().get() : "";
    std::uint64_t number = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
    return error == std::errc() && end != text.data() ? std::optional(number) : std::nullopt;
}

}  // namespace

Result<MediumPtr> open_sparse_bundle(const fs::path& folder, Opening& opening) {
    std::error_code failed;
    const fs::path bands = folder / "bands";
    pugi::xml_document list;
    // Of the list there is a copy.
    std::optional<std::uint64_t> band, size;
    for (const char* name : {"Info.plist", "Info.bckup"}) {
        if (!list.load_file((folder / name).c_str())) continue;
        band = number_of(list, "band-size");
        size = number_of(list, "size");
        if (band && size) break;
    }
    if (!fs::is_directory(bands, failed) || !band || !size || *band == 0)
        return fail(ErrorKind::unreadable, "this is a folder, not a medium", folder.string(),
                    "give the device it is on, or an image file");
    const std::uint64_t count = divide_up(*size, *band);
    if (count > kMostBands)
        return fail(ErrorKind::not_understood, "the disk image would have too many bands", folder.string(),
                    "its Info.plist is damaged");
    std::vector<Run> runs;
    for (std::uint64_t n = 0; n < count; ++n) {
        const std::uint64_t start = n * *band, length = std::min(*band, *size - start);
        const fs::path path = bands / fmt::format("{:x}", n);
        std::uint64_t there = 0;
        if (fs::is_regular_file(path, failed)) there = std::min<std::uint64_t>(fs::file_size(path, failed), length);
        if (failed) there = 0;
        if (there > 0) runs.push_back({start, there, std::make_shared<Band>(path, there), 0, false, nullptr});
        if (there < length) runs.push_back({start + there, length - there, nullptr, 0, false, nullptr});
    }
    opening.set_form("sparse bundle");
    return std::make_shared<Runs>(folder.string(), std::move(runs));
}

}  // namespace dredger::images
