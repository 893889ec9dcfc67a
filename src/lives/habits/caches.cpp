#include "lives/habits/families.h"
#include "lives/notes.h"

namespace dredger::lives::habits {
namespace {

constexpr Habit kHabits[] = {
    {.role = Role::cache,
     .name = "{hex}{hex}{hex}{hex}.png",
     .folder = "*thumbnails/*",
     .where = Where::at_path,
     .left_by = "a desktop's thumbnail",
     .look = told_by_thumbnail},
    {.role = Role::cache, .name = "Thumbs.db", .where = Where::nowhere, .left_by = "a folder's thumbnails"},
    {.role = Role::cache, .name = "ehthumbs*.db", .where = Where::nowhere, .left_by = "a folder's thumbnails"},
    {.role = Role::cache,
     .name = "thumbcache_*.db",
     .folder = "*Microsoft/Windows/Explorer",
     .where = Where::nowhere,
     .left_by = "a user's thumbnails"},
};

}  // namespace

const std::span<const Habit> kCaches = kHabits;

}  // namespace dredger::lives::habits
