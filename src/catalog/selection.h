// The selection grammar that list, preview, restore and report share: which candidates of a catalog are meant.
#pragma once

#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.h"
#include "lives/role.h"
#include "ranking/prospect.h"

namespace dredger {

// FROM..TO; either side may be missing.
struct Range {
    std::optional<std::int64_t> from;
    std::optional<std::int64_t> to;  // inclusive
};

struct Selection {
    std::set<State> states = {State::deleted, State::trashed, State::lost};
    std::set<Origin> origins;  // this and the next empty: all
    std::set<Check> checks;
    std::set<Band> bands;
    std::set<Kind> kinds;
    std::set<Role> roles;
    std::vector<std::string> formats;  // lower case
    std::vector<std::string> extensions;
    std::vector<std::string> names;    // globs, letter case ignored; any of them
    std::vector<std::string> folders;  // globs; what lies below a folder counts too
    std::vector<Range> ids;
    std::set<std::int64_t> only, without;  // further ids; empty: none
    std::set<std::int64_t> volumes;        // ScannedVolume::id; empty: all
    bool without_housekeeping = false;     // what systems keep for themselves: allocation tables, bins' notes
    Range size;                            // bytes
    // Seconds since 1970 in the digits of this machine's clock: of a time without a zone these are its own digits.
    Range modified, created, deleted;
    Range prospect;
    // Of messages, as their stores or headers tell; globs, letter case ignored; any of them.
    std::vector<std::string> senders, recipients, subjects;
    Range sent;  // as the times above

    bool asks_for_mail() const {
        return !senders.empty() || !recipients.empty() || !subjects.empty() || sent.from || sent.to;
    }
};

// What is listed where nothing is said: what is not live, without housekeeping.
Selection usual_selection();

// Each reads one option's words and says in its error what it expected.
Result<std::set<State>> parse_states(std::string_view text);
Result<std::set<Origin>> parse_origins(std::string_view text);
Result<std::set<Check>> parse_checks(std::string_view text);
Result<std::set<Band>> parse_bands(std::string_view text);
Result<std::set<Kind>> parse_kinds(std::string_view text);
Result<std::set<Role>> parse_roles(std::string_view text);    // "none", or the word of one; a blank may be left out
std::vector<std::string> parse_words(std::string_view text);  // "docx, JPG" to lower case
Result<std::vector<std::string>> parse_formats(std::string_view text);
Result<std::vector<Range>> parse_ids(std::string_view text);  // "7,12-40"
Result<Range> parse_sizes(std::string_view text);             // "10K..20M", 1K = 1024
Result<Range> parse_times(std::string_view text);             // "2026-05-01..2026-06", "yesterday", "3d.."
Result<Range> parse_prospects(std::string_view text);         // "60.."
Result<Range> parse_offsets(std::string_view text);           // "0x200..0x3ff", "512..1023"; bytes

// The glob for what somebody typed for a part of a file's name: a plain word may stand anywhere in it; with * or ? it
// is the whole name.
std::string name_glob(std::string_view typed);
// The globs for a folder: a plain word may stand anywhere in the name of one; what has a slash is a path, from the top
// or from further down. Paths of Windows ("D:\Logs") are taken as their own system writes them.
std::vector<std::string> folder_globs(std::string_view typed);

// The condition that picks the selection, for a query on `candidates`; its values are bound in order, texts and
// numbers.
struct Condition {
    std::string sql;
    struct Value {
        bool is_text;
        std::string text;
        std::int64_t number;
    };
    std::vector<Value> values;
};
Condition condition_for(const Selection& selection);

}  // namespace dredger
