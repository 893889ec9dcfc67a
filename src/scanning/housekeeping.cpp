#include "scanning/housekeeping.h"

#include <algorithm>
#include <fnmatch.h>
#include <string>

#include "base/text.h"

namespace dredger {
namespace {

// Folders that are such with all that lies in them, at the top of a volume; folded.
constexpr std::string_view kFolders[] = {
    "system volume information",  // restore points, and Windows' search index
    ".spotlight-v100",            // the Mac's search index
    ".fseventsd",                 // its log of changes
};

// Globs for folded paths.
constexpr const char* kFiles[] = {
    // Windows: memory on the disk, and the notes of its bins
    "pagefile.sys",
    "hiberfil.sys",
    "swapfile.sys",
    "$recycle.bin",
    "$recycle.bin/s-1-*",
    "$recycle.bin/desktop.ini",
    "$recycle.bin/s-1-*/desktop.ini",
    "$recycle.bin/s-1-*/$i??????",
    "$recycle.bin/s-1-*/$i??????.*",
    "recycler",
    "recycler/s-1-*",
    "recycler/s-1-*/desktop.ini",
    "recycler/s-1-*/info2",
    "recycled",
    "recycled/desktop.ini",
    "recycled/info2",
    // Mac: the journal
    ".journal",
    ".journal_info_block",
    // Linux desktops: the notes of a trash at the top of a volume
    ".trash-*/directorysizes",
    ".trash-*/info/*.trashinfo",
    ".trash/*/info/*.trashinfo",
};

}  // namespace

bool is_housekeeping(std::string_view path) {
    // Nearly all paths begin otherwise; every record is asked.
    constexpr std::string_view kFirst = "$.hprsHPRS";
    if (path.ends_with(".trashinfo") && path.find(".local/share/Trash/info/") != path.npos) return true;
    if (path.empty() || kFirst.find(path.front()) == kFirst.npos) return false;
    const std::string name = folded(path);
    const auto lies_in = [&](std::string_view folder) {
        return name.starts_with(folder) && (name.size() == folder.size() || name[folder.size()] == '/');
    };
    return std::any_of(std::begin(kFolders), std::end(kFolders), lies_in) ||
           std::any_of(std::begin(kFiles), std::end(kFiles), [&](const char* glob) {
               return ::fnmatch(glob, name.c_str(), FNM_NOESCAPE | FNM_PATHNAME) == 0;
           });
}

}  // namespace dredger
