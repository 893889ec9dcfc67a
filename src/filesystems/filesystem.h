// The seam between file systems and everything above: what a file system can be asked, and what a record of it says.
// Above it nobody knows which file system it was.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.h"
#include "base/text.h"
#include "base/times.h"
#include "filesystems/space_map.h"
#include "media/medium.h"

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
};

// Everything a file system wrote down about one file or folder.
struct Record {
    std::uint64_t id = 0;  // names the record within its volume: its byte offset on the volume, or its number there
    std::string folder;    // UTF-8, parts joined with '/', no slash at either end; empty for the root
    std::string name;      // UTF-8; never empty
    bool is_folder = false;
    State state = State::live;
    Origin origin = Origin::record;
    std::uint64_t size = 0;  // bytes
    std::optional<FileTime> created;
    std::optional<FileTime> modified;
    std::optional<FileTime> accessed;
    std::optional<FileTime> deleted;
    std::vector<std::string> attributes;  // "read-only", "hidden" ...
    std::vector<Extent> layout;           // of the content, on the volume; its lengths add up to `size` or less
    LayoutTrust trust = LayoutTrust::exact;
    bool name_is_whole = true;       // false: a part of it was inferred or is lost; `notes` says which
    std::vector<std::string> notes;  // what the technician should know of this record, a sentence each

    std::string path() const { return folder.empty() ? name : folder + "/" + name; }
};

// Takes the records of a walk, one at a time.
class RecordSink {
  public:
    virtual ~RecordSink() = default;
    // False ends the walk.
    virtual bool take(Record&& record) = 0;
};

struct VolumeFacts {
    std::string filesystem;          // "FAT32"
    std::string label;               // empty: none
    std::string serial;              // the volume's id as it is usually written; empty: none
    std::uint64_t cluster_size = 0;  // bytes
    std::uint64_t size = 0;          // bytes that the file system says it has
    std::uint64_t used = 0;          // bytes of taken clusters
    std::vector<std::string> warnings;
};

enum class Fit {
    no,
    unknown,  // the name says nothing of the content
    likely,   // as would much else: text, mostly
    yes,      // the signature stands there
};

struct WalkOptions {
    CodePage code_page = CodePage::cp850;  // of names that are not Unicode

    // Whether content that begins with these bytes goes with this file name. File systems that lost a part of a layout
    // ask it which of several places is the right one. May be empty: then nothing is known.
    std::function<Fit(std::string_view name, ByteView head)> content_fits_name;
};

class FileSystem {
  public:
    virtual ~FileSystem() = default;

    virtual const VolumeFacts& facts() const = 0;

    // Which parts of the volume live structures hold.
    virtual const SpaceMap& space() const = 0;

    // Hands every record to `sink`, live ones before those whose content they may have overwritten. Damage costs the
    // records in it; what it cost is added to `warnings`. An error only where nothing can be walked at all.
    virtual Result<void> walk(const WalkOptions& options, RecordSink& sink,
                              std::vector<std::string>& warnings) const = 0;
};

// One line of the registry: a way to recognise a file system on a volume and to open it.
struct FileSystemKind {
    std::string_view name;
    // Null where the volume does not hold this file system; an error where it does but can't be opened.
    Result<std::unique_ptr<FileSystem>> (*open)(MediumPtr volume);
};

// The file system on `volume`; null where none is recognised.
Result<std::unique_ptr<FileSystem>> open_filesystem(const MediumPtr& volume);

}  // namespace dredger
