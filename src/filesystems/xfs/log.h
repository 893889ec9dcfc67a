// The log: what inodes and directory blocks were like when they were changed. Records beyond its live part are read as
// well, as far as they stand.
// Source: "XFS Algorithms & Data Structures", "Journaling Log".
#pragma once

#include <functional>
#include <vector>

#include "filesystems/xfs/inode.h"
#include "media/medium.h"

namespace dredger::xfs {

// An inode as a transaction left it. Only its core is always there.
struct LoggedInode {
    Inode inode;  // with a fork where one was logged
    bool has_fork = false;
    bool fork_is_root = false;   // the fork is the root of a tree as it is kept in memory, not as in an inode
    std::uint64_t sequence = 0;  // of the log record: cycle, then block
};

// A part of a buffer that a transaction changed.
struct LoggedBytes {
    std::uint64_t offset = 0;  // bytes, on the volume: of the buffer
    std::size_t from = 0;      // of the bytes, within the buffer
    std::vector<std::byte> bytes;
    std::uint64_t sequence = 0;
};

class LogSink {
  public:
    virtual ~LogSink() = default;
    virtual void take(LoggedInode&& inode) = 0;
    virtual void take(LoggedBytes&& bytes) = 0;
    // False ends the reading.
    virtual bool reached(std::uint64_t done, std::uint64_t total) = 0;
};

// Whether the log ends with the record of a clean unmount; none where it can't be told.
struct LogState {
    bool is_clean = true;
    std::uint64_t records = 0;
};

// Reads the whole area of the log, in the order of its blocks.
LogState read_log(const Medium& volume, const Geometry& geometry, LogSink& sink);

}  // namespace dredger::xfs
