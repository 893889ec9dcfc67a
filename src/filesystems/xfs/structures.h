// On-disk structures of XFS. Multi-byte integers are big-endian but in the log's items, which have the byte order of
// the machine that wrote them. Source: "XFS Algorithms & Data Structures", 3rd edition (xfs-documentation of
// kernel.org).
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <cstddef>
#include <cstdint>

namespace dredger::xfs {

using boost::endian::big_int64_t;
using boost::endian::big_uint16_t;
using boost::endian::big_uint32_t;
using boost::endian::big_uint64_t;
using boost::endian::little_uint16_t;
using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

// xfs_dsb, as far as it is read here.
struct SuperBlock {
    char sb_magicnum[4];  // "XFSB"
    big_uint32_t sb_blocksize;
    big_uint64_t sb_dblocks;
    big_uint64_t sb_rblocks;
    big_uint64_t sb_rextents;
    std::byte sb_uuid[16];
    big_uint64_t sb_logstart;  // 0: the log lies on another device
    big_uint64_t sb_rootino;
    big_uint64_t sb_rbmino;
    big_uint64_t sb_rsumino;
    big_uint32_t sb_rextsize;
    big_uint32_t sb_agblocks;
    big_uint32_t sb_agcount;
    big_uint32_t sb_rbmblocks;
    big_uint32_t sb_logblocks;
    big_uint16_t sb_versionnum;
    big_uint16_t sb_sectsize;
    big_uint16_t sb_inodesize;
    big_uint16_t sb_inopblock;
    char sb_fname[12];
    std::uint8_t sb_blocklog;
    std::uint8_t sb_sectlog;
    std::uint8_t sb_inodelog;
    std::uint8_t sb_inopblog;
    std::uint8_t sb_agblklog;
    std::uint8_t sb_rextslog;
    std::uint8_t sb_inprogress;
    std::uint8_t sb_imax_pct;
    big_uint64_t sb_icount;
    big_uint64_t sb_ifree;
    big_uint64_t sb_fdblocks;
    big_uint64_t sb_frextents;
    big_uint64_t sb_uquotino;
    big_uint64_t sb_gquotino;
    big_uint16_t sb_qflags;
    std::uint8_t sb_flags;
    std::uint8_t sb_shared_vn;
    big_uint32_t sb_inoalignmt;
    big_uint32_t sb_unit;
    big_uint32_t sb_width;
    std::uint8_t sb_dirblklog;
    std::uint8_t sb_logsectlog;
    big_uint16_t sb_logsectsize;
    big_uint32_t sb_logsunit;
    big_uint32_t sb_features2;
    big_uint32_t sb_bad_features2;
    big_uint32_t sb_features_compat;
    big_uint32_t sb_features_ro_compat;
    big_uint32_t sb_features_incompat;
    big_uint32_t sb_features_log_incompat;
};
static_assert(sizeof(SuperBlock) == 224);

inline constexpr std::uint32_t XFS_SB_VERSION2_FTYPE = 0x200;
inline constexpr std::uint32_t XFS_SB_FEAT_INCOMPAT_FTYPE = 1, XFS_SB_FEAT_INCOMPAT_SPINODES = 2;

// xfs_agf, from its start.
struct FreeSpaceHeader {
    char agf_magicnum[4];  // "XAGF"
    big_uint32_t agf_versionnum;
    big_uint32_t agf_seqno;
    big_uint32_t agf_length;
    big_uint32_t agf_bno_root;
    big_uint32_t agf_cnt_root;
    big_uint32_t agf_rmap_root;
    big_uint32_t agf_bno_level;
};

// xfs_agi, from its start.
struct InodeHeader {
    char agi_magicnum[4];  // "XAGI"
    big_uint32_t agi_versionnum;
    big_uint32_t agi_seqno;
    big_uint32_t agi_length;
    big_uint32_t agi_count;
    big_uint32_t agi_root;
    big_uint32_t agi_level;
};

// xfs_btree_block: this much has every one.
struct BtreeBlock {
    char bb_magic[4];
    big_uint16_t bb_level;
    big_uint16_t bb_numrecs;
};

struct FreeExtent {  // xfs_alloc_rec
    big_uint32_t ar_startblock;
    big_uint32_t ar_blockcount;
};

struct InodeChunkRecord {  // xfs_inobt_rec, with sparse inodes
    big_uint32_t ir_startino;
    big_uint16_t ir_holemask;  // without them this and the next two are ir_freecount
    std::uint8_t ir_count;
    std::uint8_t ir_freecount;
    big_uint64_t ir_free;
};
static_assert(sizeof(InodeChunkRecord) == 16);

inline constexpr std::uint32_t kInodesPerChunk = 64;  // XFS_INODES_PER_CHUNK

// xlog_rec_header, from its start.
struct LogRecordHeader {
    big_uint32_t h_magicno;
    big_uint32_t h_cycle;
    big_uint32_t h_version;
    big_uint32_t h_len;  // bytes of operations
    big_uint64_t h_lsn;
    big_uint64_t h_tail_lsn;
    big_uint32_t h_crc;
    big_uint32_t h_prev_block;
    big_uint32_t h_num_logops;
    big_uint32_t h_cycle_data[64];  // what stood in the first words of each 512 bytes of operations
    big_uint32_t h_fmt;
    std::byte h_fs_uuid[16];
    big_uint32_t h_size;  // the most that a record's operations take
};
static_assert(sizeof(LogRecordHeader) == 324 - 0);

struct LogOperation {  // xlog_op_header
    big_uint32_t oh_tid;
    big_uint32_t oh_len;
    std::uint8_t oh_clientid;
    std::uint8_t oh_flags;
    big_uint16_t oh_res2;
};
static_assert(sizeof(LogOperation) == 12);

}  // namespace dredger::xfs
