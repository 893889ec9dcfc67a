#include "filesystems/xfs/inode.h"

namespace dredger::xfs {
namespace {

// Where the fields of xfs_dinode and of xfs_log_dinode stand.
enum Field : std::size_t {
    di_magic = 0,
    di_mode = 2,
    di_version = 4,
    di_format = 5,
    di_onlink = 6,
    di_uid = 8,
    di_gid = 12,
    di_nlink = 16,
    di_big_nextents = 24,
    di_atime = 32,
    di_mtime = 40,
    di_ctime = 48,
    di_size = 56,
    di_nblocks = 64,
    di_nextents = 76,
    di_forkoff = 82,
    di_gen = 92,
    di_flags2 = 120,
    di_crtime = 144,
    di_ino = 152,
};
constexpr std::size_t kOldCore = 100, kCore = 176;  // bytes
constexpr std::uint64_t XFS_DIFLAG2_BIGTIME = 1U << 3, XFS_DIFLAG2_NREXT64 = 1U << 4;
constexpr std::int64_t kBigtimeEpoch = std::int64_t{1} << 31;  // seconds before 1970
constexpr std::uint64_t kNanoseconds = 1'000'000'000;

class Core {
  public:
    Core(ByteView bytes, bool is_logged) : bytes_(bytes), is_logged_(is_logged) {}

    std::uint16_t u16(std::size_t at) const {
        return is_logged_ ? *bytes_.u16le(at) : bytes_.as<big_uint16_t>(at)->value();
    }
    std::uint32_t u32(std::size_t at) const {
        return is_logged_ ? *bytes_.u32le(at) : bytes_.as<big_uint32_t>(at)->value();
    }
    std::uint64_t u64(std::size_t at) const {
        return is_logged_ ? *bytes_.u64le(at) : bytes_.as<big_uint64_t>(at)->value();
    }
    std::uint8_t u8(std::size_t at) const { return *bytes_.u8(at); }

    FileTime time(std::size_t at, bool is_big) const {
        if (is_big) {
            const std::uint64_t steps = u64(at);
            return {static_cast<std::int64_t>(steps / kNanoseconds) - kBigtimeEpoch,
                    static_cast<std::uint32_t>(steps % kNanoseconds)};
        }
        return {static_cast<std::int32_t>(u32(at)), std::min<std::uint32_t>(u32(at + 4), kNanoseconds - 1)};
    }

  private:
    ByteView bytes_;
    bool is_logged_;
};

std::optional<Inode> parse_core(ByteView bytes, std::uint64_t number, bool is_logged) {
    constexpr std::uint16_t kMagic = 0x494E;  // "IN"
    if (bytes.size() < kOldCore) return std::nullopt;
    const Core core(bytes, is_logged);
    const unsigned version = core.u8(di_version);
    if (core.u16(di_magic) != kMagic || version < 1 || version > 3) return std::nullopt;
    if (version == 3 && (bytes.size() < kCore || core.u64(di_ino) != number)) return std::nullopt;
    if (core.u8(di_format) > static_cast<unsigned>(ForkFormat::btree)) return std::nullopt;
    const std::uint64_t flags2 = version == 3 ? core.u64(di_flags2) : 0;
    const bool big = (flags2 & XFS_DIFLAG2_BIGTIME) != 0;
    Inode inode;
    inode.number = number;
    inode.generation = core.u32(di_gen);
    inode.mode = core.u16(di_mode);
    inode.format = static_cast<ForkFormat>(core.u8(di_format));
    inode.uid = core.u32(di_uid);
    inode.gid = core.u32(di_gid);
    inode.links = version == 1 ? core.u16(di_onlink) : core.u32(di_nlink);
    inode.size = core.u64(di_size);
    inode.blocks = core.u64(di_nblocks);
    inode.extents = (flags2 & XFS_DIFLAG2_NREXT64) != 0 ? core.u64(di_big_nextents) : core.u32(di_nextents);
    inode.accessed = core.time(di_atime, big);
    inode.modified = core.time(di_mtime, big);
    inode.changed = core.time(di_ctime, big);
    if (version == 3) inode.created = core.time(di_crtime, big);
    if (inode.size > std::uint64_t{1} << 62) return std::nullopt;
    return inode;
}

}  // namespace

std::optional<Inode> parse_inode(ByteView bytes, std::uint64_t number, const Geometry& geometry) {
    auto inode = parse_core(bytes, number, false);
    if (!inode) return std::nullopt;
    const std::size_t core = *bytes.u8(di_version) == 3 ? kCore : kOldCore;
    if (core != geometry.header_size() || core >= bytes.size()) return std::nullopt;
    const std::size_t room = bytes.size() - core, before_attributes = *bytes.u8(di_forkoff) * std::size_t{8};
    const std::size_t length = before_attributes == 0 || before_attributes > room ? room : before_attributes;
    const auto fork = bytes.bytes().subspan(core, length);
    inode->fork.assign(fork.begin(), fork.end());
    inode->fork_at = bytes.origin() + core;
    return inode;
}

std::optional<Inode> parse_logged_core(ByteView bytes, std::uint64_t number) { return parse_core(bytes, number, true); }

}  // namespace dredger::xfs
