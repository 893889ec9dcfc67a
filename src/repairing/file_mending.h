// What the mending of one file begins with, whatever its format: the file, what reads it, and what is to be said of it.
#pragma once

#include "repairing/mending.h"

namespace dredger::repairing {

class FileMending {
  public:
    FileMending(const Damaged& file, Workbench& bench)
        : file_(file), bench_(bench), budget_(bench.budget()), content_(*file.content, budget_) {}

  protected:
    // Whether the measurer of its format has nothing to say against any of it.
    bool shows_no_damage(const Measured& found) const {
        return found.is_whole() && found.length == content_.size() && file_.holes.empty();
    }
    // The outcome where what is lost stands in other files of the same make, and in none of those that were given.
    Outcome without_reference() const {
        return bench_.references().empty() ? Outcome::wants_reference : Outcome::beyond;
    }

    const Damaged& file_;
    Workbench& bench_;
    Budget budget_;
    Reader content_;
    Mended done_;
};

}  // namespace dredger::repairing
