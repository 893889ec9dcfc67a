// Processes that the tests start.
#pragma once

#include <string>
#include <sys/types.h>
#include <vector>

namespace dredger::test {

// In a child: becomes this program of those that are built with the tests; `before`: shell words before it.
[[noreturn]] void become(const std::string& program, const std::vector<std::string>& words, const std::string& before);

// Waits for its end; 128 and more: a signal ended it.
int exit_code_of(pid_t child);

}  // namespace dredger::test
