#include "lives/habits/families.h"

namespace dredger::lives::habits {
namespace {

constexpr Habit kHabits[] = {
    {.role = Role::backup, .name = "{name}.bak", .left_by = "a backup", .needs_document = true},
    {.role = Role::backup, .name = "{stem}.bak", .left_by = "a backup", .needs_document = true},
    {.role = Role::backup, .name = "{name}.old", .left_by = "a backup", .needs_document = true},
    {.role = Role::backup, .name = "{name}.orig", .left_by = "a backup", .needs_document = true},
    {.role = Role::backup, .name = "{name}.backup", .left_by = "a backup", .needs_document = true},
    {.role = Role::history, .name = "{name}.{date}.bak", .left_by = "a dated backup", .needs_document = true},
    {.role = Role::history, .name = "{stem}-{date}.bak", .left_by = "a dated backup", .needs_document = true},
    {.role = Role::autosave, .name = "{name}.autosave", .left_by = "an autosave", .needs_document = true},
    {.role = Role::autosave,
     .name = "{stem}.autosave.*",
     .extensions = "=",
     .left_by = "an autosave",
     .needs_document = true},
    // Eight digits without an extension: what a spreadsheet writes before it takes its document's name.
    {.role = Role::temporary,
     .name = "{hex}",
     .extensions = kSheets,
     .left_by = "a spreadsheet's working copy",
     .needs_document = true,
     .by_content = true},
};

}  // namespace

const std::span<const Habit> kEveryday = kHabits;

}  // namespace dredger::lives::habits
