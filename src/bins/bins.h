// Recycle bins and trashes: which records lie in one, and where they were before. It works on records and their
// content alone, whatever file system they come from; a bin of another system joins with one file and one line in
// bins.cpp.
#pragma once

#include <string>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "filesystems/filesystem.h"

namespace dredger {

// What a bin wrote down of one thing that was put into it.
struct BinEntry {
    std::string item;        // its path in the bin, on the volume
    std::string original;    // its path before, on its volume; parts joined with '/'
    std::string noted_as;    // the same as the bin wrote it down: "E:\Logs\terns.csv"
    std::string account;     // who put it there; empty where the bin does not say
    std::uint64_t size = 0;  // bytes, as the bin counted them
    std::optional<FileTime> deleted;
    bool live = true;  // whether the bin still held this entry
};

// One kind of bin.
struct BinKind {
    std::string_view name;  // for people: "recycle bin"

    // Whether this path lies in such a bin and is not one of the bin's own files.
    bool (*holds)(std::string_view path);

    // Whether a file of this name and size (bytes) can be one in which such a bin keeps its notes.
    bool (*may_be_index)(std::string_view name, std::uint64_t size);

    // What the index file `path` with this content tells; empty where it is none.
    std::vector<BinEntry> (*entries_of)(std::string_view path, ByteView content);
};

class Bins {
  public:
    // Reads the index files among the records that are shown to it; any order will do.
    void learn(const Record& record, const MediumPtr& volume);

    // Whether a live record at this path was thrown away.
    static bool holds(std::string_view path);

    // No notes of any bin were among the records.
    bool empty() const { return entries_.empty(); }

    // To be called when all records were shown: gives what lies, or lay, in a bin its original path and the time of its
    // deletion, and says whether it did. What a bin holds but has no notes of keeps its path, with a note.
    bool settle(Record& record) const;

    // Takes note of a record that settle() moved ...
    void note_move(const Record& record);
    // ... so that the place in a folder that it left when it went into the bin is not taken for a find of its own.
    bool is_former_place(const Record& record) const;

  private:
    const BinEntry* entry_for(const std::string& item, const Record& record, bool is_itself) const;

    std::unordered_map<std::string, std::vector<BinEntry>> entries_;     // by folded item
    std::size_t count_ = 0;                                              // of entries_, all together
    std::unordered_set<std::uint64_t> index_files_;                      // content keys of the index files
    std::unordered_map<std::string, std::vector<std::uint64_t>> moved_;  // content keys by folded original path
};

}  // namespace dredger
