// VDI. Source: the header as VirtualBox's storage code (VDICore.h) defines it. All numbers are little-endian.
#include <boost/endian/arithmetic.hpp>
#include <fmt/format.h>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/text.h"
#include "media/images/image.h"
#include "media/images/translated.h"

namespace dredger::images {
namespace {

namespace fs = std::filesystem;
using boost::endian::little_uint32_t, boost::endian::little_uint64_t;

struct Header {
    char text[64];
    little_uint32_t signature;  // 0xBEDA107F
    little_uint32_t version;
    little_uint32_t header_size;
    little_uint32_t type;
    little_uint32_t flags;
    char comment[256];
    little_uint32_t blocks_offset;  // of the block map
    little_uint32_t data_offset;
    little_uint32_t cylinders;
    little_uint32_t heads;
    little_uint32_t sectors;
    little_uint32_t sector_size;
    little_uint32_t unused;
    little_uint64_t disk_size;
    little_uint32_t block_size;
    little_uint32_t block_extra;  // bytes in front of each block
    little_uint32_t blocks;
    little_uint32_t blocks_allocated;
    std::byte uuid_create[16];
    std::byte uuid_modify[16];
    std::byte uuid_linkage[16];  // the disk that this one builds on
    std::byte uuid_parent_modify[16];
};

constexpr std::uint32_t kSignature = 0xBEDA107F;
constexpr std::uint32_t kFree = 0xFFFFFFFF;  // nothing was ever written
constexpr std::uint32_t kZero = 0xFFFFFFFE;  // discarded
enum Type : std::uint32_t { kNormal = 1, kFixed = 2, kUndo = 3, kDifferencing = 4 };

class Vdi final : public Translated {
  public:
    Vdi(const FilePtr& file, const Header& header, MediumPtr parent)
        : Translated(file->name(), header.disk_size, header.block_size),
          file_(file),
          header_(header),
          parent_(std::move(parent)),
          map_(file, header.blocks_offset, header.blocks, 4, NumberTable::Endian::little) {}

  protected:
    Result<Place> place_of(std::uint64_t offset) const override {
        const std::uint64_t block = header_.block_size;
        const std::uint64_t within = offset % block;
        const std::uint64_t rest = std::min(block - within, size() - offset);
        DREDGER_TRY(const std::uint64_t entry, map_.at(offset / block));
        if (entry == kZero) return Place::zeros(rest);
        if (entry == kFree) return from_parent(parent_, offset, rest);
        return Place{rest, file_,
                     header_.data_offset + entry * (block + header_.block_extra) + header_.block_extra + within};
    }

  private:
    FilePtr file_;
    Header header_;
    MediumPtr parent_;
    NumberTable map_;
};

Result<std::optional<Header>> header_of(const FileMedium& file) {
    if (file.size() < sizeof(Header)) return std::nullopt;
    DREDGER_TRY(const auto bytes, file.bytes(0, sizeof(Header)));
    DREDGER_TRY(const Header header, ByteView(bytes).as<Header>(0));
    if (header.signature != kSignature) return std::nullopt;
    return header;
}

// A disk names its parent by number only: it is looked for in the same folder.
Result<MediumPtr> parent_of(const FilePtr& file, const Header& header, Opening& opening) {
    const std::string wanted = uuid_text(std::span<const std::byte, 16>(header.uuid_linkage));
    fs::path folder = file->path().parent_path();
    if (folder.empty()) folder = ".";
    std::error_code failed;
    for (const auto& entry : fs::directory_iterator(folder, failed)) {
        if (!entry.is_regular_file(failed) || extension_of(entry.path().filename().string()) != "vdi") continue;
        const auto other = FileMedium::open(entry.path());
        if (!other) continue;
        const auto its = header_of(**other);
        if (its && *its && uuid_text(std::span<const std::byte, 16>((*its)->uuid_create)) == wanted)
            return opening.open_parent(*file, {entry.path().filename().string()});
    }
    return fail(ErrorKind::unreadable, fmt::format("the parent disk is missing: the VDI with the number {}", wanted),
                file->name(), "put it into the same folder: this disk holds only what changed since");
}

}  // namespace

Result<MediumPtr> open_vdi(const FilePtr& file, Opening& opening) {
    DREDGER_TRY(const auto found, header_of(*file));
    if (!found) return nullptr;
    const Header& header = *found;
    if (header.version >> 16U != 1)
        return fail(ErrorKind::not_understood, fmt::format("VDI version {} is not known", header.version >> 16U),
                    file->name());
    if (header.block_size < 512 || header.block_size % 512 != 0 ||
        divide_up(header.disk_size, header.block_size) > header.blocks)
        return fail(ErrorKind::not_understood, "the sizes in its header contradict each other", file->name(),
                    "the VDI header is damaged");
    opening.note_if_cut(*file, header.data_offset + std::uint64_t{header.blocks_allocated} *
                                                        (std::uint64_t{header.block_size} + header.block_extra));
    MediumPtr parent;
    if (header.type == kDifferencing || header.type == kUndo) {
        DREDGER_TRY(parent, parent_of(file, header, opening));
    }
    return std::make_shared<Vdi>(file, header, parent);
}

}  // namespace dredger::images
