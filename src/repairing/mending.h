// What mending a damaged file is given and what it says of it: the seam behind which each family of formats is a file
// or a folder, and one line of menders.cpp.
#pragma once

#include <functional>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.h"
#include "formats/format.h"
#include "media/medium.h"
#include "repairing/workbench.h"

namespace dredger::repairing {

enum class Outcome {
    whole,            // nothing was wrong
    mended,           // all content is there
    partly,           // some of it is lost
    wants_reference,  // a file that is sound and was made in the same way would help
    beyond,           // nothing is to be had of it
};

inline constexpr std::string_view kOutcomeWords[] = {"whole", "mended", "partly", "wants a reference", "beyond"};
inline std::string_view word_for(Outcome outcome) { return kOutcomeWords[static_cast<std::size_t>(outcome)]; }

// Where the first of these holes begins at or behind `at`, which may lie in it; at most `end`.
std::uint64_t first_hole(std::span<const Extent> holes, std::uint64_t at, std::uint64_t end);

// A file that may be damaged.
struct Damaged {
    MediumPtr content;
    std::string name;           // by which it is called; the end of it is a hint, no more
    std::vector<Extent> holes;  // what of the content is known not to be the file's own, in order; it reads as zeros

    // What of the content can't be read becomes holes as well, and from then on they all read as zeros. Reads all of it
    // once. Errors: interrupted.
    Result<void> find_holes(const std::function<bool()>& should_stop);
    // Whether something of [at, at + length) lies in a hole.
    bool touches_hole(std::uint64_t at, std::uint64_t length) const;
};

// What came of one file.
struct Mended {
    Outcome outcome = Outcome::beyond;
    std::string_view format;         // empty: it shows none
    std::string extension;           // of the result; empty: that of the file
    std::optional<Output> result;    // none: there is nothing to keep
    std::uint64_t kept = 0, of = 0;  // units that came back, and those that there were as far as is known
    std::string_view unit;           // "entries", "rows", "frames" ...
    std::vector<std::string> what;   // that was done, that is missing, that was guessed: a sentence each

    // What is saved beside the result, as it can't be a part of it.
    struct Beside {
        std::string name;  // behind that of the file
        Output output;
    };
    std::vector<Beside> beside = {};
};

// The file as its format's measurer sees it, with a budget of its own.
Measured measured(const Damaged& file, std::string_view format, const Workbench& bench);
// The outcome for a file that nothing is wrong with: the result is a copy.
Result<Mended> as_it_is(const Damaged& file, const Workbench& bench, Mended done);
// What a mender returns whose result is written.
Result<Mended> finished(Output output, Mended done);

struct Mender {
    std::string_view family;
    std::vector<std::string_view> formats;  // names in the registry of formats
    std::string_view mends;                 // for people, in a few words: what can be repaired
    // How surely content whose head shows no format is of this family all the same, 0 for not at all. May be null.
    std::function<unsigned(const Damaged& file)> bid = nullptr;
    // An error only where a result can't be written, or somebody asked to stop.
    std::function<Result<Mended>(const Damaged& file, Workbench& bench)> mend = nullptr;
};

std::span<const Mender* const> all_menders();
// The one for a file, by its head, else by its content, else by its name; null: none.
const Mender* mender_for(const Damaged& file);
// The one for files of a format; null: none.
const Mender* mender_of(std::string_view format);

}  // namespace dredger::repairing
