// The built program, watched while it changes what lies below a folder: one of its calls can be made to fail, to be cut
// short or to be the last one, and what a power cut leaves on the drive can be laid out at any point.
#pragma once

#include <filesystem>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "support/support.h"

namespace dredger::test {

// Whether processes may be traced here.
bool can_step_in();

struct Mishap {
    enum class Kind : std::uint8_t {
        none,
        error,  // the call does nothing and says `error`
        part,   // a write writes half of its bytes; any other call is left alone
        end,    // the program is killed in front of the call
    };
    Kind kind = Kind::none;
    unsigned at = 0;  // the call, counted from 1
    int error = 0;    // of errno.h
};

// A call that succeeded. Paths are relative to the folder.
struct Change {
    enum class Kind : std::uint8_t { write, resize, file, folder, rename, remove, synced, all_synced };
    Kind kind = Kind::write;
    std::string path;
    std::string to;                // of a rename
    std::uint64_t offset = 0;      // bytes; of a write
    std::uint64_t size = 0;        // bytes; of a resize
    std::vector<std::byte> bytes;  // of a write
    bool empties = false;          // of a file: what was in it is gone
};

struct SteppedIn {
    Ran ran;
    unsigned calls = 0;
    std::vector<Change> changes;
};

// The folder must be absolute and have no links in it. What other processes than those of the program do is not seen.
SteppedIn run_stepping_in(const std::vector<std::string>& words, const std::filesystem::path& folder,
                          const Mishap& mishap = {});

// What a drive holds when the power goes: names are those of the last moment, as journals keep them, but of content
// only that is sure which the program waited for.
class PowerCut {
  public:
    enum class Unsaved : std::uint8_t {
        zeros,    // files have their length, and zeros where nothing was waited for
        missing,  // files end where what was waited for ends
    };

    void apply(const Change& change);
    // Below a folder that is not there yet.
    void lay_out(const std::filesystem::path& folder, Unsaved unsaved) const;

  private:
    struct File {
        std::vector<std::byte> now, saved;
    };
    std::map<std::string, std::shared_ptr<File>> files_;
    std::vector<std::string> folders_;
};

}  // namespace dredger::test
