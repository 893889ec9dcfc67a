// What a file is to another one: the copies that systems and programs leave of a document.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "base/times.h"

namespace dredger {

enum class Role : std::uint8_t {
    none,        // a file in its own right
    autosave,    // what a program saved by itself, against a crash
    temporary,   // written while a document is saved, downloaded or opened from elsewhere
    owner_note,  // tells who has a document open
    backup,      // the state before the last save
    history,     // the state at a point in time that the copy's place tells
    swap,        // an editor's working store: the text with what was not saved
    cache,       // a picture of it
    piece,       // what a checker cut out of a broken file system
    hidden,      // a file or folder that somebody hid and put a shortcut in its place
};

inline constexpr std::string_view kRoleWords[] = {"none",    "autosave", "temporary", "owner note", "backup",
                                                  "history", "swap",     "cache",     "piece",      "hidden"};
inline std::string_view word_for(Role role) { return kRoleWords[static_cast<std::size_t>(role)]; }

// Whether a copy of this role is a state of its document, and not only a sign of it: who has it open, a picture of it.
constexpr bool is_state_of_document(Role role) {
    return role != Role::owner_note && role != Role::cache && role != Role::piece && role != Role::hidden;
}

struct SafetyCopy {
    Role role = Role::none;
    std::string of;                 // path of the document; empty: it has none, or which one it is is not known
    std::string why;                // a sentence: by what it was recognised
    std::optional<FileTime> as_of;  // the point in time whose state it is, where its place tells that
    bool operator==(const SafetyCopy&) const = default;
};

}  // namespace dredger
