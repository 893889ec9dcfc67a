#include "lives/habits/families.h"

namespace dredger::lives::habits {
namespace {

constexpr Habit kHabits[] = {
    // Drawings of buildings, parts and circuits.
    {.role = Role::autosave,
     .name = "{stem}_{n}_{n}_{x}.sv$",
     .where = Where::anywhere,
     .extensions = "dwg,dxf",
     .left_by = "a drawing program's autosave"},
    {.role = Role::autosave,
     .name = "{stem}.sv$",
     .where = Where::anywhere,
     .extensions = "dwg,dxf",
     .left_by = "a drawing program's autosave"},
    {.role = Role::temporary,
     .name = "{stem}_{n}_{n}_{x}.ac$",
     .where = Where::anywhere,
     .extensions = "dwg,dxf",
     .left_by = "a drawing program's working copy"},
    {.role = Role::owner_note, .name = "{stem}.dwl", .extensions = "dwg", .left_by = "a drawing program's lock file"},
    {.role = Role::owner_note, .name = "{stem}.dwl2", .extensions = "dwg", .left_by = "a drawing program's lock file"},
    {.role = Role::backup, .name = "{stem}.skb", .extensions = "skp", .left_by = "a model's backup of the save before"},
    {.role = Role::autosave, .name = "AutoSave_{stem}.skp", .extensions = "skp", .left_by = "a model's autosave"},
    {.role = Role::autosave,
     .name = "{stem}_{n}_autosave.blend",
     .where = Where::anywhere,
     .extensions = "blend",
     .left_by = "a model's autosave"},
    {.role = Role::backup, .name = "{stem}.blend{n}", .extensions = "blend", .left_by = "a model's backup"},
    {.role = Role::backup, .name = "{stem}.3dmbak", .extensions = "3dm", .left_by = "a model's backup"},
    {.role = Role::backup, .name = "{stem}.FCStd{n}", .extensions = "fcstd", .left_by = "a model's backup"},
    {.role = Role::backup, .name = "{stem}.{date}.FCBak", .extensions = "fcstd", .left_by = "a model's backup"},
    {.role = Role::autosave, .name = "_autosave-{name}", .left_by = "a drawing program's autosave"},
    {.role = Role::backup, .name = "{name}-bak", .left_by = "a program's backup", .needs_document = true},
    {.role = Role::backup, .name = "{stem}.s#{n}", .extensions = "sch", .left_by = "a circuit's backup"},
    {.role = Role::backup, .name = "{stem}.b#{n}", .extensions = "brd", .left_by = "a circuit's backup"},
    {.role = Role::backup, .name = "Backup_of_{name}", .left_by = "a drawing program's backup"},
    {.role = Role::backup, .name = "Backup of {name}", .left_by = "a program's backup", .needs_document = true},

    // Pictures and pages.
    {.role = Role::autosave,
     .name = "_{stem}{x}.ps*",
     .folder = "*AutoRecover",
     .where = Where::anywhere,
     .extensions = "psd,psb",
     .left_by = "a picture program's autosave"},
    {.role = Role::autosave, .name = ".{name}-autosave.kra", .left_by = "a painting program's autosave"},
    {.role = Role::autosave,
     .name = ".krita-*-autosave.kra",
     .where = Where::nowhere,
     .left_by = "a painting program's autosave of a picture that was never saved"},
    {.role = Role::owner_note, .name = "~{stem}~{x}.idlk", .extensions = "indd,indb", .left_by = "a layout's lock file"},

    // Film and sound.
    {.role = Role::history,
     .name = "{stem}-{date}.prproj",
     .where = Where::anywhere,
     .extensions = "prproj",
     .left_by = "a film project's autosave"},
    {.role = Role::history,
     .name = "{stem}-{n}.prproj",
     .folder = "*Auto-Save",
     .where = Where::anywhere,
     .extensions = "prproj",
     .left_by = "a film project's autosave"},
    {.role = Role::history,
     .name = "{stem} auto-save {n}.aep",
     .where = Where::anywhere,
     .extensions = "aep",
     .left_by = "a film project's autosave"},
    {.role = Role::history,
     .name = "{stem}-{x}-{date}.kdenlive",
     .where = Where::anywhere,
     .extensions = "kdenlive",
     .left_by = "a film project's backup"},
    {.role = Role::history,
     .name = "{stem} [{date}].als",
     .folder = "*Backup",
     .where = Where::above,
     .extensions = "als",
     .left_by = "a music project's backup"},
    {.role = Role::history, .name = "{stem}-{date}.rpp-bak", .extensions = "rpp", .left_by = "a music project's backup"},

    // Books of account.
    {.role = Role::history, .name = "{name}.{date}.gnucash", .extensions = "gnucash", .left_by = "an account book's backup"},
    {.role = Role::owner_note, .name = "{name}.LCK", .extensions = "gnucash", .left_by = "an account book's lock file"},
};

}  // namespace

const std::span<const Habit> kDesign = kHabits;

}  // namespace dredger::lives::habits
