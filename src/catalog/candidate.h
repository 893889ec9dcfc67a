// What a catalog keeps: media, volumes, and the candidates found on them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "filesystems/filesystem.h"
#include "lives/role.h"
#include "media/identity.h"
#include "ranking/prospect.h"
#include "volumes/volume.h"

namespace dredger {

struct ScannedSource {
    std::int64_t id = 0;
    std::string path;  // absolute, as it was when scanned
    Identity identity;
    std::string scan = {};  // names this scan of it among those of all catalogs
};

struct ScannedVolume {
    std::int64_t id = 0;
    std::int64_t source = 0;
    Volume place;
    VolumeFacts facts;
    bool done = false;           // its records are all in the catalog
    bool has_more = false;       // but more of it can be read now: they are to be read again
    bool map_is_trusted = true;  // false: live files lie where the file system's space map shows free clusters
    std::int64_t find = 0;       // of a mail store: the candidate that it is; 0: the whole source, or no store
    std::string
        settings;  // the scan options that narrow what is kept; a volume is scanned again only with the same ones
};

// "volume 2 LABEL", or "outside the volumes".
std::string name_of_volume(const ScannedVolume& volume);

// That of a volume of a source, in a list of all; null where it is not there. A lost volume may begin where nothing
// else was known, or another volume.
const ScannedVolume* row_of(const std::vector<ScannedVolume>& list, std::int64_t source, const Volume& place);

// How far the deep scan of a volume is.
struct Sweep {
    std::int64_t volume = 0;     // ScannedVolume::id
    std::string settings;        // the options that narrow or widen it
    std::int64_t checked = 0;    // the last candidate whose content was checked
    std::uint64_t position = 0;  // bytes that were searched
    std::uint64_t total = 0;     // bytes to search
    std::string state;           // of the search, for going on with it
    std::string traces;          // of volumes that it has seen on its way
    bool done = false;
};

// What looking at a candidate's content tells of it.
struct Learnt {
    std::int64_t id = 0;
    Kind kind = Kind::other;
    std::string format;  // empty: not known
    Prospect prospect;
    Proof proof = Proof::none;              // of its content, as far as it was checked
    bool is_checked = false;                // its content was read through its format
    std::optional<std::uint64_t> likeness;  // of a picture; 0: nothing can be seen of it. None: not looked at yet
};

// A candidate with all that is known of it.
struct Candidate : Learnt {
    std::int64_t volume = 0;  // ScannedVolume::id
    FileEntry record;
    MediumLayout layout;
    std::int64_t content = 0;  // the first candidate of those with this same content; 0: none is known
    SafetyCopy copy;           // what it is to another file, if it is
};

// "PATH (written TIME)": how one file is told of to explain another.
std::string title_of(const FileEntry& record);

}  // namespace dredger
