// Processes that the tests start.
#pragma once

#include <string>
#include <sys/types.h>
#include <vector>

namespace dredger::test {

// In a child: becomes this program of those that are built with the tests; `before`: shell words before it.
[[noreturn]] void become(const std::string& program, const std::vector<std::string>& words, const std::string& before);

// The built program on a terminal of its own of so many columns and 24 lines.
struct OnTerminal {
    pid_t child = -1;
    int terminal = -1;  // what it writes is read here, and what is written here it reads
};
OnTerminal start_on_terminal(const std::vector<std::string>& words, unsigned columns, const std::string& before);

// Waits for its end; 128 and more: a signal ended it.
int exit_code_of(pid_t child);

}  // namespace dredger::test
