#include "filesystems/xfs/log.h"

#include <map>

#include "volumes/trace.h"

namespace dredger::xfs {
namespace {

constexpr std::uint32_t XLOG_HEADER_MAGIC_NUM = 0xFEEDBABE;
constexpr std::uint64_t kBasic = 512;  // BBSIZE, bytes
constexpr std::size_t kCycleWords = 64;
constexpr std::uint32_t kLargestRecord = 256 << 10;  // XLOG_MAX_RECORD_BSIZE
constexpr std::size_t kMaxTransactions = 64;         // that are open at once
constexpr std::size_t kLargestRegion = 1 << 20;      // bytes

// oh_flags
constexpr unsigned XLOG_START_TRANS = 1, XLOG_COMMIT_TRANS = 2, XLOG_WAS_CONT_TRANS = 8, XLOG_UNMOUNT_TRANS = 0x20;
// Items, by the first word of their first region.
constexpr std::uint16_t XFS_LI_FIRST = 0x1236, XFS_LI_INODE = 0x123B, XFS_LI_BUF = 0x123C, XFS_LI_LAST = 0x1250;
// ilf_fields
constexpr std::uint32_t XFS_ILOG_CORE = 1, XFS_ILOG_DDATA = 2, XFS_ILOG_DEXT = 4, XFS_ILOG_DBROOT = 8;

struct InodeItem {  // xfs_inode_log_format
    little_uint16_t ilf_type;
    little_uint16_t ilf_size;  // regions
    little_uint32_t ilf_fields;
    little_uint16_t ilf_asize;
    little_uint16_t ilf_dsize;
    little_uint32_t ilf_pad;
    little_uint64_t ilf_ino;
    std::byte ilf_u[16];
    little_uint64_t ilf_blkno;
    little_uint32_t ilf_len;
    little_uint32_t ilf_boffset;
};
static_assert(sizeof(InodeItem) == 56);

struct BufferItem {  // xfs_buf_log_format, up to its bitmap
    little_uint16_t blf_type;
    little_uint16_t blf_size;  // regions
    little_uint16_t blf_flags;
    little_uint16_t blf_len;    // units of 512 bytes
    little_uint64_t blf_blkno;  // of 512 bytes
    little_uint32_t blf_map_size;
};
static_assert(sizeof(BufferItem) == 20);
constexpr std::size_t kChunk = 128;  // XFS_BLF_CHUNK, bytes that a bit of the bitmap stands for
constexpr std::uint16_t XFS_BLF_CANCEL = 4;

using Region = std::vector<std::byte>;

// One transaction's regions as they come, put together to items.
class Transaction {
  public:
    Transaction(const Geometry& geometry, LogSink& sink) : geometry_(geometry), sink_(sink) {}

    void add(std::span<const std::byte> bytes, bool continues, std::uint64_t sequence) {
        if (continues) {
            if (!regions_.empty() && regions_.back().size() + bytes.size() <= kLargestRegion)
                regions_.back().insert(regions_.back().end(), bytes.begin(), bytes.end());
            return;
        }
        finish();
        sequence_ = sequence;
        // Where the start of a transaction is overwritten, its items are found by how they begin.
        if (regions_.empty() && expected_of(ByteView(bytes)) == 0) return;
        regions_.emplace_back(bytes.begin(), bytes.end());
    }

    // The item whose last region has come.
    void finish() {
        if (regions_.empty()) return;
        const std::size_t expected = expected_of(ByteView(regions_.front()));
        if (expected == 0 || regions_.size() < expected) {
            if (expected == 0) regions_.clear();
            return;
        }
        const std::uint16_t type = *ByteView(regions_.front()).u16le(0);
        if (type == XFS_LI_INODE) take_inode();
        if (type == XFS_LI_BUF) take_buffer();
        regions_.clear();
    }

  private:
    // Regions of the item that begins with this one; 0 where none does.
    static std::size_t expected_of(ByteView first) {
        const auto type = first.u16le(0), count = first.u16le(2);
        if (!type || !count || *type < XFS_LI_FIRST || *type > XFS_LI_LAST || *count == 0 || *count > 1024) return 0;
        if (*type == XFS_LI_INODE && first.size() != sizeof(InodeItem)) return 0;
        if (*type == XFS_LI_BUF && first.size() < sizeof(BufferItem)) return 0;
        return *count;
    }

    void take_inode() {
        const auto item = *ByteView(regions_[0]).as<InodeItem>(0);
        if ((item.ilf_fields & XFS_ILOG_CORE) == 0 || regions_.size() < 2 || !geometry_.offset_of_inode(item.ilf_ino))
            return;
        auto core = parse_logged_core(ByteView(regions_[1]), item.ilf_ino);
        if (!core) return;
        LoggedInode logged{std::move(*core), false, false, sequence_};
        const std::uint32_t fork = item.ilf_fields & (XFS_ILOG_DDATA | XFS_ILOG_DEXT | XFS_ILOG_DBROOT);
        if (fork != 0 && regions_.size() > 2 && item.ilf_dsize > 0) {
            logged.inode.fork = std::move(regions_[2]);
            logged.inode.fork.resize(std::min<std::size_t>(logged.inode.fork.size(), item.ilf_dsize));
            logged.has_fork = true;
            logged.fork_is_root = fork == XFS_ILOG_DBROOT;
        }
        sink_.take(std::move(logged));
    }

    void take_buffer() {
        const ByteView head(regions_[0]);
        const auto item = *head.as<BufferItem>(0);
        const auto offset = checked_mul(item.blf_blkno, kBasic);
        if (!offset || *offset >= geometry_.size() || (item.blf_flags & XFS_BLF_CANCEL) != 0) return;
        std::size_t region = 1;
        const std::size_t bits = std::min<std::size_t>(item.blf_map_size, (head.size() - sizeof(BufferItem)) / 4) * 32;
        const auto is_set = [&](std::size_t bit) {
            return bit < bits && (*head.u32le(sizeof(BufferItem) + bit / 32 * 4) >> bit % 32 & 1U) != 0;
        };
        for (std::size_t bit = 0; bit < bits && region < regions_.size(); ++bit) {
            if (!is_set(bit)) continue;
            std::size_t end = bit;
            while (is_set(end)) ++end;
            // A long run of bits may have come in several regions.
            std::size_t from = bit * kChunk;
            while (from < end * kChunk && region < regions_.size()) {
                LoggedBytes bytes{*offset, from, std::move(regions_[region++]), sequence_};
                from += bytes.bytes.size();
                if (bytes.bytes.empty()) return;
                sink_.take(std::move(bytes));
            }
            bit = end;
        }
    }

    const Geometry& geometry_;
    LogSink& sink_;
    std::vector<Region> regions_;  // of the item that is under way
    std::uint64_t sequence_ = 0;
};

class LogReader {
  public:
    LogReader(const Medium& volume, const Geometry& geometry, LogSink& sink)
        : volume_(volume), geometry_(geometry), sink_(sink) {}

    LogState run() {
        const auto start = geometry_.log_start == 0 ? std::nullopt : geometry_.offset_of(geometry_.log_start);
        const std::uint64_t length = std::uint64_t{geometry_.log_blocks} * geometry_.block_size;
        if (!start || !lies_within(*start, length, volume_.size())) return {};
        start_ = *start;
        length_ = length / kBasic * kBasic;
        for (std::uint64_t at = 0; at < length_;) {
            if (at / kBasic % 2048 == 0 && !sink_.reached(at, length_)) break;
            at += read_record(at);
        }
        for (auto& [id, transaction] : open_) transaction.finish();
        return state_;
    }

  private:
    // From the log's area, round its end.
    std::optional<std::vector<std::byte>> bytes(std::uint64_t at, std::uint64_t length) const {
        if (length > length_) return std::nullopt;
        at %= length_;
        const std::uint64_t first = std::min(length, length_ - at);
        auto part = bytes_at(volume_, start_ + at, static_cast<std::size_t>(first));
        if (!part || first == length) return part;
        const auto rest = bytes_at(volume_, start_, static_cast<std::size_t>(length - first));
        if (!rest) return std::nullopt;
        part->insert(part->end(), rest->begin(), rest->end());
        return part;
    }

    // How many bytes to go on.
    std::uint64_t read_record(std::uint64_t at) {
        const auto sector = bytes(at, kBasic);
        if (!sector) return kBasic;
        const ByteView view(*sector);
        const auto head = *view.as<LogRecordHeader>(0);
        if (head.h_magicno != XLOG_HEADER_MAGIC_NUM || head.h_version == 0 || head.h_version > 2 ||
            head.h_lsn >> 32 != head.h_cycle)
            return kBasic;
        const std::uint32_t size = head.h_version == 2 && head.h_size != 0 ? head.h_size.value() : 32U << 10;
        if (size > kLargestRecord || head.h_len > size) return kBasic;
        const std::uint64_t headers = divide_up(size, kCycleWords * kBasic);
        auto body = bytes(at + headers * kBasic, divide_up(head.h_len, kBasic) * kBasic);
        const auto further = bytes(at + kBasic, (headers - 1) * kBasic);
        if (!body || (headers > 1 && !further)) return kBasic;
        // Each 512 bytes begin with the number of the cycle; what stood there is kept in the headers. Where it is
        // another one, a later record has come.
        std::size_t good = 0;
        for (std::size_t block = 0; block * kBasic < body->size(); ++block, good += kBasic) {
            if (*ByteView(*body).as<big_uint32_t>(block * kBasic) != head.h_cycle) break;
            const std::size_t page = block / kCycleWords, word = block % kCycleWords;
            const std::byte* kept = page == 0 ? sector->data() + offsetof(LogRecordHeader, h_cycle_data) + word * 4
                                              : further->data() + (page - 1) * kBasic + 4 + word * 4;
            std::copy(kept, kept + 4, body->begin() + static_cast<std::ptrdiff_t>(block * kBasic));
        }
        read_operations(ByteView(std::span(*body).first(std::min<std::size_t>(good, head.h_len))), head.h_num_logops,
                        head.h_lsn);
        ++state_.records;
        return headers * kBasic + good;
    }

    void read_operations(ByteView body, std::uint32_t count, std::uint64_t sequence) {
        for (std::size_t at = 0; count > 0 && at + sizeof(LogOperation) <= body.size(); --count) {
            const auto operation = *body.as<LogOperation>(at);
            at += sizeof(LogOperation);
            const std::size_t length = std::min<std::size_t>(operation.oh_len, body.size() - at);
            const unsigned flags = operation.oh_flags;
            note_unmount((flags & XLOG_UNMOUNT_TRANS) != 0, sequence);
            if ((flags & (XLOG_START_TRANS | XLOG_COMMIT_TRANS)) != 0) {
                if (const auto old = open_.find(operation.oh_tid); old != open_.end()) {
                    old->second.finish();
                    open_.erase(old);
                }
            } else if (length > 0 && (flags & XLOG_UNMOUNT_TRANS) == 0) {
                if (open_.size() >= kMaxTransactions && !open_.contains(operation.oh_tid)) open_.erase(open_.begin());
                open_.try_emplace(operation.oh_tid, geometry_, sink_)
                    .first->second.add(body.bytes().subspan(at, length), (flags & XLOG_WAS_CONT_TRANS) != 0, sequence);
            }
            at += length;
        }
    }

    void note_unmount(bool is_unmount, std::uint64_t sequence) {
        if (sequence < last_) return;
        last_ = sequence;
        state_.is_clean = is_unmount;
    }

    const Medium& volume_;
    const Geometry& geometry_;
    LogSink& sink_;
    std::uint64_t start_ = 0, length_ = 0;  // bytes
    std::map<std::uint32_t, Transaction> open_;
    std::uint64_t last_ = 0;
    LogState state_;
};

}  // namespace

LogState read_log(const Medium& volume, const Geometry& geometry, LogSink& sink) {
    return LogReader(volume, geometry, sink).run();
}

}  // namespace dredger::xfs
