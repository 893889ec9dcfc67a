// What programs and systems leave of documents, told by where it lies and how it is named: the seam behind which each
// family of programs is one file of habits/ and one line of the registry.
#pragma once

#include <functional>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "formats/reader.h"
#include "lives/pattern.h"
#include "lives/role.h"

namespace dredger::lives {

// Where the document of a copy is looked for.
enum class Where {
    beside,    // in the same folder
    above,     // in the folder above
    anywhere,  // on the same medium: the nearest one of the name
    at_path,   // at the path that the copy's folder tells, or at one that ends so
    nowhere,   // it was never saved
};

// What content tells of its document, or that it is no such copy after all.
struct ToldByContent {
    bool is_one = true;
    std::string path;                // of the document, as it was told; empty: nothing is
    std::vector<std::string> facts;  // for the sentence: "opened by Jana on HUT-PC"
};

struct Habit {
    Role role = Role::none;
    std::string_view name = {};    // Pattern of the copy's name
    std::string_view folder = {};  // Pattern of the end of its folder's path, from a folder on; empty: any
    Where where = Where::beside;
    std::string_view extensions =
        {};  // that the document can have, "doc,docx"; "=": the copy's own, or its kin; empty: any
    std::string_view left_by = {};  // for people: "an office program's owner note"
    // Where no document of that name is there it is a file in its own right: the name alone says too little.
    bool needs_document = false;
    // Its name does not tell which document it is of: content that they share does.
    bool by_content = false;
    // Called where the names fit. May be null.
    ToldByContent (*look)(Reader& content) = nullptr;
};

// What a file's place and name say of it.
struct Claim {
    const Habit* habit = nullptr;
    Captured captured;
};

// Every habit, those first that say most; a shop's own come before all others.
std::span<const Habit> all_habits();

// For use by one thread.
class Habits {
  public:
    // `own` must outlive this.
    explicit Habits(std::span<const Habit> own = {});

    // All that fit, those first that say most; none: it is a file in its own right, as far as names tell.
    std::vector<Claim> claims_of(std::string_view folder, std::string_view name) const;

  private:
    struct Prepared {
        const Habit* habit;
        Pattern name;
        std::optional<Pattern> folder;
    };
    static std::optional<Captured> place_in(const Pattern& pattern, std::string_view folder);
    const std::vector<std::optional<Captured>>& places_in(std::string_view folder) const;

    std::vector<Prepared> prepared_;
    // Of the folder that was asked for last, for each of these: files of one folder are asked for one after the other.
    mutable std::string last_folder_;
    mutable std::vector<std::optional<Captured>> last_places_;
};

// Whether a document with this extension can be the one. `copy`: the extension of the copy.
bool can_be_of(const Habit& habit, std::string_view document, std::string_view copy);

}  // namespace dredger::lives
