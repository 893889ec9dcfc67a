// The lives that inodes had: each file that was created in an inode gave it a new generation. What a life was like
// before it ended stands in the journal's older copies of the inode table.
#pragma once

#include "filesystems/ext/directory.h"
#include "filesystems/ext/inode_table.h"

namespace dredger::ext {

struct Life {
    std::uint32_t inode = 0;
    std::uint32_t generation = 0;
    FileType type = FileType::unknown;
    enum class End { lives, deleted, replaced, formatted } end = End::deleted;
    std::uint32_t first = 0;     // the first transaction that is known to have seen it
    bool has_first = false;      // false: it is older than all of them
    std::uint32_t deleted = 0;   // seconds since 1970; 0: not known
    std::optional<Inode> last;   // as it was last known before its end, with a layout if there was one
    std::uint32_t sequence = 0;  // the transaction that wrote `last`
    bool from_journal = false;   // `last` does
};

FileType type_of(const Inode& inode);

class Lives {
  public:
    // `reached`: by inode, whether the live tree leads there. False: stopped.
    static std::optional<Lives> read(const Geometry& geometry, const Groups& groups, const Journal& journal,
                                     const InodeTable& table, const std::vector<bool>& reached,
                                     const std::function<bool(std::uint64_t group)>& done);

    // All but those that live and were the only ones of their inode; by inode, the oldest first.
    std::vector<Life>& all() { return lives_; }
    const std::vector<Life>& all() const { return lives_; }

    // The life that the inode led when transaction `sequence` saw it as a `type`; without a sequence the last one that
    // has ended. None where nothing is known of such a one.
    const Life* at(std::uint32_t inode, FileType type, std::optional<std::uint32_t> sequence) const;
    std::span<const Life> of(std::uint32_t inode) const;

    // Directories that stand within their inodes, as the journal kept them: the oldest first.
    struct InlineFolder {
        Inode inode;
        std::uint32_t sequence;
    };
    const std::vector<InlineFolder>& inline_folders() const { return inline_folders_; }

    // In use, but nothing leads to them any more.
    const std::vector<std::uint32_t>& unreached() const { return unreached_; }

    // Where the content of life `life` lay.
    static Mapping map(const Life& life, const Geometry& geometry, const Journal& journal, const InodeTable& table,
                       const Medium& volume);

  private:
    std::vector<Life> lives_;
    std::vector<InlineFolder> inline_folders_;
    std::vector<std::uint32_t> unreached_;
};

}  // namespace dredger::ext
