#include "support/child.h"

#include <filesystem>
#include <pty.h>
#include <sys/wait.h>
#include <unistd.h>

namespace dredger::test {
namespace {

// The programs that tests drive are built with them.
std::string beside_this_program(const std::string& name) {
    return std::filesystem::read_symlink("/proc/self/exe").replace_filename(name).string();
}

}  // namespace

void become(const std::string& program, const std::vector<std::string>& words, const std::string& before) {
    ::setenv("DREDGER_CONFIG", "", 0);  // not that of whoever runs the tests
    std::vector<std::string> all = {"/bin/sh", "-c", before + " exec \"$0\" \"$@\"", beside_this_program(program)};
    all.insert(all.end(), words.begin(), words.end());
    std::vector<char*> pointers;
    for (std::string& word : all) pointers.push_back(word.data());
    pointers.push_back(nullptr);
    ::execv(pointers[0], pointers.data());
    ::_exit(127);
}

OnTerminal start_on_terminal(const std::vector<std::string>& words, unsigned columns, const std::string& before) {
    winsize size{};
    size.ws_col = static_cast<unsigned short>(columns);
    size.ws_row = 24;
    OnTerminal started;
    started.child = ::forkpty(&started.terminal, nullptr, nullptr, &size);
    if (started.child == 0) {
        ::unsetenv("COLUMNS");
        ::unsetenv("NO_COLOR");
        ::setenv("TERM", "xterm-256color", 1);
        become("dredger", words, before);
    }
    return started;
}

int exit_code_of(pid_t child) {
    int status = 0;
    ::waitpid(child, &status, 0);
    return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

}  // namespace dredger::test
