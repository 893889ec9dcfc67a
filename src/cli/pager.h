// What is longer than the screen goes through the pager of whoever sits there.
#pragma once

#include <sys/types.h>

namespace dredger::cli {

// From its making on stdout goes through $PAGER (`less -FRX` where that is not set), if stdout is a terminal and the
// manner of this run wants it. Waits in the end until the pager was left.
class Pager {
  public:
    Pager();
    ~Pager();
    Pager(const Pager&) = delete;
    Pager& operator=(const Pager&) = delete;

  private:
    pid_t pager_ = -1;
    int terminal_ = -1;  // what stdout was
};

}  // namespace dredger::cli
