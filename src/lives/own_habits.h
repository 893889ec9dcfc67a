// Habits of programs that a user describes in a TOML file; docs/lives.md has the schema.
#pragma once

#include <deque>
#include <filesystem>
#include <vector>

#include "lives/habit.h"

namespace dredger::lives {

class OwnHabits {
  public:
    // An error names the place in the file and what was expected.
    static Result<OwnHabits> read(const std::filesystem::path& file);

    const std::vector<Habit>& habits() const { return habits_; }

  private:
    std::string_view keep(std::string text) { return words_.emplace_back(std::move(text)); }

    std::deque<std::string> words_;  // that the habits point to
    std::vector<Habit> habits_;
};

}  // namespace dredger::lives
