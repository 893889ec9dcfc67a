#include "lives/habits/families.h"

namespace dredger::lives::habits {
namespace {

constexpr Habit kHabits[] = {
    {.role = Role::piece,
     .name = "FILE{n}.CHK",
     .where = Where::nowhere,
     .left_by = "what a checker of the file system saved"},
    {.role = Role::piece,
     .name = "#{n}",
     .folder = "lost+found",
     .where = Where::nowhere,
     .left_by = "what a checker of the file system saved"},
};

}  // namespace

const std::span<const Habit> kCheckers = kHabits;

}  // namespace dredger::lives::habits
