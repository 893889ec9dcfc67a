// The seam between file systems and everything above: what a file system can be asked, and what a record of it says.
// Above it nobody knows which file system it was.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/agreement.h"
#include "base/bytes.h"
#include "base/fact.h"
#include "base/text.h"
#include "base/times.h"
#include "filesystems/space_map.h"
#include "media/layout.h"
#include "volumes/trace.h"

namespace dredger {

enum class State { live, deleted, trashed, lost };
enum class Origin { record, remnant, signature };

inline constexpr std::string_view kStateWords[] = {"live", "deleted", "trashed", "lost"};
inline constexpr std::string_view kOriginWords[] = {"record", "remnant", "signature"};
inline std::string_view word_for(State state) { return kStateWords[static_cast<std::size_t>(state)]; }
inline std::string_view word_for(Origin origin) { return kOriginWords[static_cast<std::size_t>(origin)]; }

// How a file's layout is known.
enum class LayoutTrust {
    exact,    // the file system still tells every piece
    assumed,  // the first piece is known, the rest follows from what was taken and free
    none,     // nothing is known of where the content lies
    damaged,  // told by a record that is itself damaged
};

// Which file of its volume a record is of. Several names of one file share it, and so do its streams.
struct FileIdentity {
    std::uint64_t tree = 0;        // of the volume, where it has several that number their files by themselves
    std::uint64_t number = 0;      // of the file; where files have none, the byte offset of its record on the volume
    std::uint64_t generation = 0;  // which life of a number that was given to several files; 0: not known
    bool operator==(const FileIdentity&) const = default;
};

// What a record says of a file or folder, but for where its content lies.
struct FileEntry {
    FileIdentity identity;
    // What files that share their content have in common, as a file and its state in a snapshot; 0: nobody does.
    std::uint64_t shares = 0;
    // The point in time that it is of: the generation of the tree that tells of it. 0: the file system's newest.
    std::uint64_t version = 0;
    std::string folder;                // UTF-8, parts joined with '/', no slash at either end; empty for the root
    std::string name;                  // UTF-8; never empty. Of a stream: that of its file, a semicolon, and its own
    std::string stream;                // the stream's own name; empty: it is the file's content
    bool is_own = false;               // it is the file system's own, and nobody's loss
    bool name_is_whole = true;         // false: a part of it was inferred or is lost; `notes` says which
    bool name_is_placeholder = false;  // nothing is known of its name: a number stands for it
    bool is_folder = false;
    State state = State::live;
    Origin origin = Origin::record;
    std::uint64_t size = 0;  // bytes
    std::optional<FileTime> created;
    std::optional<FileTime> modified;
    std::optional<FileTime> accessed;
    std::optional<FileTime> changed;  // the record itself
    std::optional<FileTime> deleted;
    std::vector<std::string> attributes;  // "read-only", "hidden", kEncrypted ...
    std::vector<Fact> facts;
    LayoutTrust trust = LayoutTrust::exact;
    std::vector<std::string> notes;  // what the technician should know of this record, a sentence each

    std::string path() const { return joined(folder, name); }
    // The name without the stream's.
    std::string_view file_name() const {
        return std::string_view(name).substr(0, name.size() - (stream.empty() ? 0 : stream.size() + 1));
    }
    void name_stream(std::string_view own) {
        stream = own;
        name.append(";").append(own);
    }
    // The same for all records whose content is the same bytes of the volume.
    std::uint64_t content_key() const {
        if (shares != 0) return shares;
        return identity.number ^ (identity.generation << 32 | identity.generation >> 32) ^
               identity.tree * 0x9E3779B97F4A7C15U;
    }
};

// Everything that a file system wrote down about one file or folder.
struct Record : FileEntry {
    VolumeLayout layout;          // of the content
    std::vector<Extent> keeping;  // further parts of the volume that it holds for its own ends: a folder's index
};

// Facts of a record that a snapshot tells of: its name, and when it was made (ISO 8601).
inline constexpr std::string_view kSnapshotFact = "snapshot", kSnapshotMadeFact = "snapshot made";
inline void add_snapshot_facts(FileEntry& entry, const std::string& name, const std::optional<FileTime>& made) {
    entry.facts.push_back({std::string(kSnapshotFact), name});
    if (made) entry.facts.push_back({std::string(kSnapshotMadeFact), iso8601(*made)});
}

// An attribute: the content is encrypted with a key that is not on the medium.
inline constexpr std::string_view kEncrypted = "encrypted";

// The words for the file attributes that FAT, exFAT and NTFS share, and those that NTFS adds ([MS-FSCC] 2.6).
std::vector<std::string> attribute_words(std::uint32_t attributes);

// Takes the records of a walk, one at a time.
class RecordSink {
  public:
    virtual ~RecordSink() = default;
    // False ends the walk.
    virtual bool take(Record&& record) = 0;
};

// One of several trees of files within a file system, each of which numbers its files by itself: a subvolume, a
// snapshot, one of the volumes of a container. Paths of records lead through all of them from the first one down.
struct FileRoot {
    std::uint64_t tree = 0;     // FileIdentity::tree of its files
    std::string label;          // its own name; empty: none
    bool is_snapshot = false;   // told of is only what differs from the trees before it
    std::uint64_t version = 0;  // FileEntry::version of its files
    std::optional<FileTime> made;
};

struct VolumeFacts {
    std::string filesystem;          // for people: "FAT32"
    std::string label;               // empty: none
    std::string serial;              // the volume's id as it is usually written; empty: none
    std::uint64_t cluster_size = 0;  // bytes
    std::uint64_t size = 0;          // bytes that the file system says it has
    std::uint64_t used = 0;          // bytes of taken clusters
    std::vector<std::string> warnings;
    // Whether a system of today mounts it as it stands. Where only a copy of its superblock or boot sector is left, or
    // nothing of it, all its files are lost to their owner.
    bool is_mountable = true;
};

struct WalkOptions {
    CodePage code_page = CodePage::cp850;  // of names that are not Unicode
    bool snapshots = true;                 // also what only snapshots tell of
    bool live_only = false;                // only the records that are in use: much quicker on some file systems

    // Whether content that begins with these bytes goes with this file name. File systems that lost a part of a layout
    // ask it which of several places is the right one. May be empty: then nothing is known.
    std::function<Agreement(std::string_view name, ByteView head)> head_for_name;

    // Where content of this name that fills whole clusters ends, in bytes, by its own structure or by the zeros that
    // fill its last cluster; none where it is neither. May be empty.
    std::function<std::optional<std::uint64_t>(std::string_view name, const Medium& content)> content_end;

    // How many bytes a file of this name has that begins where `content` does, by its own structure and whatever
    // follows it; none where that does not tell. May be empty.
    std::function<std::optional<std::uint64_t>(std::string_view name, const Medium& content)> content_length;

    // Told of long work before the first record is handed over: what, and how much of it is done. False ends the walk.
    // May be empty.
    std::function<bool(const char* doing, std::uint64_t done, std::uint64_t total)> go_on;
};

// What stands in free space of where files lay whose records tell nothing of that any more.
class LeftLayouts {
  public:
    virtual ~LeftLayouts() = default;
    // Where a file can lie whose content begins at this byte of the volume: in whole clusters, as far as it is told.
    virtual std::vector<std::vector<Extent>> from(std::uint64_t start) const = 0;
};

struct FileSystemKind;

class FileSystem {
  public:
    virtual ~FileSystem() = default;

    // The line of the registry that it was opened by; null for one that was opened without it.
    const FileSystemKind* kind() const { return kind_; }
    void set_kind(const FileSystemKind& kind) { kind_ = &kind; }

    virtual const VolumeFacts& facts() const = 0;

    // Which parts of the volume live structures hold.
    virtual const SpaceMap& space() const = 0;

    // All trees of files that it holds; empty where there is only one.
    virtual std::vector<FileRoot> roots() const { return {}; }

    // Hands every record to `sink`, in the same order each time. Damage costs the records in it; what it cost is added
    // to `warnings`. An error only where nothing can be walked at all.
    virtual Result<void> walk(const WalkOptions& options, RecordSink& sink,
                              std::vector<std::string>& warnings) const = 0;

    // Reads all that is free; null where this file system leaves nothing of the kind. `go_on` is told of the bytes that
    // are done and of all; false ends it.
    virtual std::unique_ptr<LeftLayouts> left_layouts(
        const std::function<bool(std::uint64_t done, std::uint64_t total)>& /*go_on*/) const {
        return nullptr;
    }

  private:
    const FileSystemKind* kind_ = nullptr;
};

// One line of the registry: a way to recognise a file system on a volume and to open it, and one to recognise it by
// what lies somewhere on a medium.
struct FileSystemKind {
    std::string_view name;
    // Null where the volume does not hold this file system; an error where it does but can't be opened.
    Result<std::unique_ptr<FileSystem>> (*open)(MediumPtr volume);  // null: it can't be read
    Tracer trace;
    // Opens one that has lost the structures by which it is recognised; null: can't be done. Asked last of all.
    Result<std::unique_ptr<FileSystem>> (*infer)(MediumPtr volume) = nullptr;
    // Opens what is left of one that a file system of another kind was put over, where neither does; null: can't be
    // done. `left` is as Leftover gives it.
    Result<std::unique_ptr<FileSystem>> (*former)(MediumPtr left, const SpaceMap& today) = nullptr;
};

// The file system on `volume`; null where none is recognised.
Result<std::unique_ptr<FileSystem>> open_filesystem(const MediumPtr& volume);

// The same; where none is recognised, one that has lost its first structures is inferred from the others. Not for what
// may be several volumes: it would find the first of them.
Result<std::unique_ptr<FileSystem>> open_or_infer(const MediumPtr& volume);

// What is left on `volume` of file systems of other kinds than today's. All records of theirs are remnants, and what
// was live in them is lost; where their content lies counts from the start of the volume.
std::vector<std::unique_ptr<FileSystem>> former_filesystems(const MediumPtr& volume, const FileSystem& today);

// Every line of the registry, in the order in which they are asked.
std::span<const FileSystemKind> all_filesystem_kinds();
// One that is not among the program's own, asked after these. Before anything is opened, and by one thread.
void add_filesystem_kind(const FileSystemKind& kind);

std::vector<Tracer> all_tracers();

}  // namespace dredger
