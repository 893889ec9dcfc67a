#include "lives/habits/families.h"

namespace dredger::lives::habits {
namespace {

constexpr Habit kHabits[] = {
    {.role = Role::temporary,
     .name = "Unconfirmed {n}.crdownload",
     .where = Where::nowhere,
     .left_by = "a browser's unfinished download"},
    {.role = Role::temporary, .name = "{name}.crdownload", .left_by = "a browser's unfinished download"},
    {.role = Role::temporary, .name = "{name}.opdownload", .left_by = "a browser's unfinished download"},
    {.role = Role::temporary, .name = "{name}.partial", .left_by = "a browser's unfinished download"},
    {.role = Role::temporary,
     .name = "{stem}.{x}.{x}.part",
     .extensions = "=",
     .left_by = "a browser's unfinished download",
     .needs_document = true},
    {.role = Role::temporary, .name = "{name}.part", .left_by = "an unfinished download", .needs_document = true},
    {.role = Role::temporary, .name = "{name}.filepart", .left_by = "an unfinished transfer"},
    {.role = Role::temporary, .name = ".{name}.{x6}", .left_by = "an unfinished transfer", .needs_document = true},
    {.role = Role::temporary,
     .name = ".goutputstream-{x}",
     .left_by = "what a program wrote to be renamed",
     .by_content = true},

    // Attachments that were opened from within a mail.
    {.role = Role::temporary,
     .name = "{name}",
     .folder = "*Content.Outlook/{x}",
     .where = Where::anywhere,
     .left_by = "an attachment that was opened from a mail"},
    {.role = Role::temporary,
     .name = "{name}",
     .folder = "*com.apple.mail/Data/Library/Mail Downloads/*",
     .where = Where::anywhere,
     .left_by = "an attachment that was opened from a mail"},
    {.role = Role::temporary,
     .name = "{name}",
     .folder = "tmp/mozilla_*",
     .where = Where::anywhere,
     .left_by = "a download or attachment that was opened at once"},
    {.role = Role::temporary,
     .name = "{name}",
     .folder = "*TemporaryItems/(A Document Being Saved By *)",
     .where = Where::anywhere,
     .left_by = "what a program was saving"},
};

}  // namespace

const std::span<const Habit> kTransfers = kHabits;

}  // namespace dredger::lives::habits
