#include "lives/habits/families.h"
#include "lives/notes.h"
#include "lives/vim_swap.h"

namespace dredger::lives::habits {
namespace {

constexpr Habit kHabits[] = {
    {.role = Role::swap, .name = ".{name}.sw{c}", .left_by = "an editor's swap file", .look = told_by_vim_swap},
    {.role = Role::swap,
     .name = "%{%path}.sw{c}",
     .where = Where::at_path,
     .left_by = "an editor's swap file",
     .look = told_by_vim_swap},
    {.role = Role::swap, .name = ".{name}.kate-swp", .left_by = "an editor's swap file"},
    // Where whole paths stand in names, another sign is written for the slashes.
    {.role = Role::autosave, .name = "#!{!path}#", .where = Where::at_path, .left_by = "an editor's autosave"},
    {.role = Role::backup, .name = "!{!path}~", .where = Where::at_path, .left_by = "an editor's backup"},
    {.role = Role::autosave, .name = "#{name}#", .left_by = "an editor's autosave"},
    {.role = Role::owner_note, .name = ".#{name}", .left_by = "an editor's lock", .needs_document = true},
    {.role = Role::backup, .name = "{name}.~{n}~", .left_by = "an editor's backup"},
    {.role = Role::backup, .name = "{name}~", .left_by = "an editor's backup of the save before"},
    {.role = Role::autosave,
     .name = "{name}.save.{n}",
     .left_by = "an editor's emergency save",
     .needs_document = true},
    {.role = Role::autosave, .name = "{name}.save", .left_by = "an editor's emergency save", .needs_document = true},
    {.role = Role::autosave,
     .name = "new {n}@{date}",
     .folder = "*Notepad++/backup",
     .where = Where::nowhere,
     .left_by = "an editor's autosave of a text that was never saved"},
    {.role = Role::autosave,
     .name = "{name}@{date}",
     .folder = "*Notepad++/backup",
     .where = Where::anywhere,
     .left_by = "an editor's autosave"},
    {.role = Role::backup,
     .name = "{name}.{date}.bak",
     .folder = "*nppBackup",
     .where = Where::above,
     .left_by = "an editor's backup"},
    {.role = Role::autosave,
     .name = "*",
     .folder = "*/Backups/{x}/file",
     .where = Where::at_path,
     .left_by = "an editor's copy of unsaved changes",
     .look = told_by_first_line},
    {.role = Role::autosave,
     .name = "*",
     .folder = "*/Backups/{x}/untitled",
     .where = Where::nowhere,
     .left_by = "an editor's copy of a text that was never saved"},
};

}  // namespace

const std::span<const Habit> kEditors = kHabits;

}  // namespace dredger::lives::habits
