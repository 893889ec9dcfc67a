#include "formats/rar_block.h"

#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

// Numbers of variable length within a header.
class Fields {
  public:
    Fields(Reader& content, std::uint64_t at) : content_(content), at_(at) {}
    std::uint64_t number() {
        std::uint64_t value = 0;
        for (unsigned i = 0; i < 10; ++i) {
            const std::uint64_t byte = content_.u8(at_++);
            value |= (byte & 0x7F) << (7 * i);
            if ((byte & 0x80) == 0) break;
        }
        return value;
    }
    std::uint32_t u32() {
        at_ += 4;
        return content_.u32le(at_ - 4);
    }
    std::string text(std::uint64_t length) {
        at_ += length;
        return content_.text(at_ - length, static_cast<std::size_t>(length));
    }
    std::uint64_t at() const { return at_; }

  private:
    Reader& content_;
    std::uint64_t at_;
};

}  // namespace

std::optional<RarBlock> rar_block_at(Reader& content, std::uint64_t at) {
    constexpr std::uint64_t kLargestHeader = 2 << 20;  // bytes
    Fields fields(content, at + 4);
    const std::uint64_t size = fields.number();
    RarBlock block;
    block.at = at;
    block.header = fields.at() - at + size;
    if (size == 0 || size > kLargestHeader || !content.holds(at, block.header)) return std::nullopt;
    if (crc32_of(content, at + 4, block.header - 4) != content.u32le(at)) return std::nullopt;
    block.type = fields.number();
    const std::uint64_t flags = fields.number();
    if ((flags & 1) != 0) fields.number();
    if ((flags & 2) != 0) block.data = fields.number();
    if (block.type != RarBlock::kFile) return block;
    const std::uint64_t about = fields.number();
    fields.number();  // unpacked bytes
    fields.number();  // attributes
    if ((about & 2) != 0) fields.u32();
    std::optional<std::uint32_t> crc;
    if ((about & 4) != 0) crc = fields.u32();
    const std::uint64_t packing = fields.number();
    fields.number();  // system
    block.is_solid = (packing & 0x40) != 0;
    if ((packing >> 7 & 7) == 0) block.crc = crc;
    if (const std::uint64_t length = fields.number(); length < size) block.name = fields.text(length);
    return block;
}

}  // namespace dredger::formats
