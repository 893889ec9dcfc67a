#include "cli/pager.h"

#include <array>
#include <cstdio>
#include <cstdlib>
#include <fcntl.h>
#include <filesystem>
#include <signal.h>
#include <sstream>
#include <string>
#include <sys/wait.h>
#include <unistd.h>

#include "cli/manner.h"
#include "cli/terminal.h"

namespace dredger::cli {
namespace {

bool is_installed(const std::string& program) {
    const char* path = std::getenv("PATH");
    std::istringstream folders(path != nullptr ? path : "");
    for (std::string folder; std::getline(folders, folder, ':');)
        if (::access((std::filesystem::path(folder) / program).c_str(), X_OK) == 0) return true;
    return false;
}

// Empty: none.
std::string wanted_pager() {
    const char* wanted = std::getenv("PAGER");
    if (wanted == nullptr) return is_installed("less") ? "less" : "";
    return std::string(wanted) == "cat" ? "" : wanted;
}

}  // namespace

Pager::Pager() {
    if (!manner().pages || !stdout_is_terminal() || is_dumb_terminal()) return;
    const std::string command = wanted_pager();
    std::array<int, 2> pipe{};
    if (command.empty() || ::pipe2(pipe.data(), O_CLOEXEC) != 0) return;
    // Ends by itself where all fits, shows colours, and leaves what it showed on the screen.
    (void)::setenv("LESS", "FRX", 0);
    (void)std::fflush(stdout);
    pager_ = ::fork();
    if (pager_ == 0) {
        ::dup2(pipe[0], STDIN_FILENO);
        ::execl("/bin/sh", "sh", "-c", command.c_str(), nullptr);
        ::_exit(127);
    }
    if (pager_ > 0) {
        terminal_ = ::fcntl(STDOUT_FILENO, F_DUPFD_CLOEXEC, 3);
        ::dup2(pipe[1], STDOUT_FILENO);
    }
    ::close(pipe[0]);
    ::close(pipe[1]);
}

Pager::~Pager() {
    if (pager_ <= 0) return;
    // Ctrl-C is the pager's now.
    struct sigaction ignore {};
    ignore.sa_handler = SIG_IGN;
    ::sigaction(SIGINT, &ignore, nullptr);
    (void)std::fflush(stdout);
    ::dup2(terminal_, STDOUT_FILENO);
    ::close(terminal_);
    while (::waitpid(pager_, nullptr, 0) < 0 && errno == EINTR) {
    }
}

}  // namespace dredger::cli
