#include "filesystems/unread.h"

#include <boost/endian/arithmetic.hpp>

#include "base/checked.h"

namespace dredger::unread {
namespace {

using boost::endian::big_uint32_t;

bool is_power_of_two(std::uint64_t n) { return n != 0 && (n & (n - 1)) == 0; }

}  // namespace

std::optional<VolumeTrace> trace_hfsplus(const Medium& medium, std::uint64_t at, ByteView there) {
    using namespace std::string_view_literals;
    constexpr std::uint64_t kHeader = 1024;  // bytes from the start, and from the end
    const auto is_header = [](ByteView view) { return view.has(0, "H+\0\4"sv) || view.has(0, "HX\0\5"sv); };
    if (!is_header(there)) return std::nullopt;
    const auto block = there.as<big_uint32_t>(40), blocks = there.as<big_uint32_t>(44),
               free = there.as<big_uint32_t>(48);
    if (!block || !blocks || !free || !is_power_of_two(*block) || *block < 512 || *blocks == 0 || *free > *blocks)
        return std::nullopt;
    const std::uint64_t length = std::uint64_t{*block} * *blocks;
    const auto header_at = [&](std::uint64_t place) {
        const auto bytes = bytes_at(medium, place, 4);
        return bytes && is_header(ByteView(*bytes));
    };
    const bool is_first = at >= kHeader && at - kHeader + length >= kHeader && header_at(at - 2 * kHeader + length);
    const bool is_last = !is_first && at + kHeader >= length && header_at(at + 2 * kHeader - length);
    if (!is_first && !is_last) return std::nullopt;
    return VolumeTrace{"HFS+", "", is_first ? at - kHeader : at + kHeader - length,
                       length, 2,  "the headers at its start and at its end agree",
                       at};
}

std::optional<VolumeTrace> trace_apfs(const Medium& medium, std::uint64_t at, ByteView there) {
    if (!there.has(32, "NXSB") || there.size() < 128) return std::nullopt;
    const std::uint64_t block = *there.u32le(36), blocks = *there.u64le(40);
    // o_oid of a container's superblock is 1; nx_xp_desc_base tells where its copies lie.
    if (*there.u64le(8) != 1 || !is_power_of_two(block) || block < 4096 || block > 65'536) return std::nullopt;
    const auto length = checked_mul(blocks, block);
    const auto copies = checked_mul(*there.u64le(112), block);
    if (!length || *length == 0 || !copies || *copies == 0 || *copies >= *length) return std::nullopt;
    // Objects begin with a checksum and their number; what stands at the copies' place is one of them.
    const auto copy = checked_add(at, *copies);
    const auto object = copy ? bytes_at(medium, *copy, 40) : std::nullopt;
    if (!object || ByteView(*object).is_uniform()) return std::nullopt;
    return VolumeTrace{"APFS", "", at, *length, 1, "its container's superblock tells its own place", at};
}

}  // namespace dredger::unread
