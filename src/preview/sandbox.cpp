#include "preview/sandbox.h"

#include <cerrno>
#include <chrono>
#include <csignal>
#include <fstream>
#include <poll.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

namespace dredger::preview {
namespace {

constexpr std::size_t kMaxAnswer = 4 << 20;  // bytes

void set_limits(const SandboxLimits& limits) {
#if !defined(__SANITIZE_ADDRESS__)  // whose shadow memory takes terabytes of address space
    std::uint64_t pages = 0;
    std::ifstream("/proc/self/statm") >> pages;
    const rlim_t memory = pages * static_cast<std::uint64_t>(::sysconf(_SC_PAGESIZE)) + limits.memory;
    const rlimit most_memory = {memory, memory};
    ::setrlimit(RLIMIT_AS, &most_memory);
#endif
    const rlimit most_time = {limits.seconds, limits.seconds + 1};
    ::setrlimit(RLIMIT_CPU, &most_time);
    const rlimit no_core = {0, 0};
    ::setrlimit(RLIMIT_CORE, &no_core);
}

[[noreturn]] void work(int answer_to, const std::function<std::string()>& job, const SandboxLimits& limits) {
    set_limits(limits);
    std::string answer;
    try {
        answer = job();
    } catch (...) {
        ::_exit(1);
    }
    for (std::size_t done = 0; done < answer.size();) {
        const ssize_t n = ::write(answer_to, answer.data() + done, answer.size() - done);
        if (n < 0 && errno != EINTR) ::_exit(1);
        if (n > 0) done += static_cast<std::size_t>(n);
    }
    ::_exit(0);
}

// All that comes through the pipe; false where it takes too long or is too much.
bool read_answer(int from, std::string& answer, std::chrono::seconds patience) {
    const auto end = std::chrono::steady_clock::now() + patience;
    char room[65536];
    for (;;) {
        const auto left =
            std::chrono::duration_cast<std::chrono::milliseconds>(end - std::chrono::steady_clock::now()).count();
        pollfd wait = {from, POLLIN, 0};
        const int ready = left > 0 ? ::poll(&wait, 1, static_cast<int>(left)) : 0;
        if (ready < 0 && errno == EINTR) continue;
        if (ready <= 0) return false;
        const ssize_t n = ::read(from, room, sizeof room);
        if (n < 0 && errno == EINTR) continue;
        if (n <= 0) return n == 0;
        answer.append(room, static_cast<std::size_t>(n));
        if (answer.size() > kMaxAnswer) return false;
    }
}

}  // namespace

std::optional<std::string> run_apart(const std::function<std::string()>& job, const SandboxLimits& limits) {
    int ends[2];
    if (::pipe(ends) != 0) return std::nullopt;
    const pid_t child = ::fork();
    if (child == 0) {
        ::close(ends[0]);
        work(ends[1], job, limits);
    }
    ::close(ends[1]);
    std::string answer;
    const bool answered = child > 0 && read_answer(ends[0], answer, std::chrono::seconds(3 * limits.seconds));
    ::close(ends[0]);
    if (child <= 0) return std::nullopt;
    if (!answered) ::kill(child, SIGKILL);
    int status = 0;
    while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
    }
    if (!answered || !WIFEXITED(status) || WEXITSTATUS(status) != 0) return std::nullopt;
    return answer;
}

}  // namespace dredger::preview
