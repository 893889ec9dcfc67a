#include "support/stepping_in.h"

#include <algorithm>
#include <charconv>
#include <csignal>
#include <fcntl.h>
#include <optional>
#include <seccomp.h>
#include <sys/prctl.h>
#include <sys/ptrace.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

#include "support/child.h"

namespace dredger::test {
namespace {

namespace fs = std::filesystem;
using Kind = Change::Kind;

constexpr int kCalls[] = {SCMP_SYS(write),    SCMP_SYS(pwrite64), SCMP_SYS(writev),    SCMP_SYS(ftruncate),
                          SCMP_SYS(openat),   SCMP_SYS(open),     SCMP_SYS(mkdir),     SCMP_SYS(mkdirat),
                          SCMP_SYS(rename),   SCMP_SYS(renameat), SCMP_SYS(renameat2), SCMP_SYS(unlink),
                          SCMP_SYS(unlinkat), SCMP_SYS(rmdir),    SCMP_SYS(fsync),     SCMP_SYS(fdatasync),
                          SCMP_SYS(syncfs),   SCMP_SYS(openat2)};

// Called in the child, in front of the program.
void ask_to_be_traced() {
    ::ptrace(PTRACE_TRACEME, 0, nullptr, nullptr);
    ::raise(SIGSTOP);
    ::prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
    const auto filter = ::seccomp_init(SCMP_ACT_ALLOW);
    for (const int call : kCalls) ::seccomp_rule_add(filter, SCMP_ACT_TRACE(0), call, 0);
    if (::seccomp_load(filter) != 0) ::_exit(126);
}

#if defined(__x86_64__)

// A thread that is about to make a call, or has made it.
class Stopped {
  public:
    explicit Stopped(pid_t thread) : thread_(thread) { ::ptrace(PTRACE_GETREGS, thread, nullptr, &registers_); }

    long call() const { return static_cast<long>(registers_.orig_rax); }
    std::uint64_t argument(unsigned n) const {
        const std::uint64_t all[] = {registers_.rdi, registers_.rsi, registers_.rdx,
                                     registers_.r10, registers_.r8,  registers_.r9};
        return all[n];
    }
    long result() const { return static_cast<long>(registers_.rax); }

    void refuse(int error) {
        registers_.orig_rax = ~0ULL;
        registers_.rax = static_cast<unsigned long long>(-static_cast<long long>(error));
        ::ptrace(PTRACE_SETREGS, thread_, nullptr, &registers_);
    }
    void change_third_argument(std::uint64_t value) {
        registers_.rdx = value;
        ::ptrace(PTRACE_SETREGS, thread_, nullptr, &registers_);
    }

    std::vector<std::byte> bytes_at(std::uint64_t address, std::size_t count) const {
        std::vector<std::byte> bytes(count);
        const iovec here{bytes.data(), count};
        // NOLINTNEXTLINE(performance-no-int-to-ptr): an address in the other process
        const iovec there{reinterpret_cast<void*>(address), count};
        const ssize_t got = ::process_vm_readv(thread_, &here, 1, &there, 1, 0);
        bytes.resize(got < 0 ? 0 : static_cast<std::size_t>(got));
        return bytes;
    }
    std::string text_at(std::uint64_t address) const {
        std::string text;
        for (;;) {
            // Up to the end of its page, as the next one may not be there.
            const auto part = bytes_at(address, 4096 - address % 4096);
            const auto end = std::find(part.begin(), part.end(), std::byte{0});
            text.append(reinterpret_cast<const char*>(part.data()), static_cast<std::size_t>(end - part.begin()));
            if (part.empty() || end != part.end()) return text;
            address += part.size();
        }
    }
    // What a descriptor stands for; "" where that is no file.
    std::string path_of(std::uint64_t descriptor) const {
        const int number = static_cast<int>(descriptor);
        std::error_code failed;
        return fs::read_symlink(in_proc(number == AT_FDCWD ? "cwd" : "fd/" + std::to_string(number)), failed).string();
    }
    std::string path_from(std::uint64_t folder, std::uint64_t text) const {
        const fs::path path = text_at(text);
        return (path.is_absolute() ? path : path_of(folder) / path).lexically_normal().string();
    }
    // Where the next write into a file goes.
    std::uint64_t position_of(std::uint64_t descriptor) const {
        const std::string told = read_text(in_proc("fdinfo/" + std::to_string(descriptor)));
        const auto line = [&](const char* name, int base) {
            std::uint64_t value = 0;
            if (const auto at = told.find(name); at != told.npos) {
                const auto digits = told.find_first_not_of(" \t", at + std::string_view(name).size());
                std::from_chars(told.data() + digits, told.data() + told.size(), value, base);
            }
            return value;
        };
        std::error_code failed;
        return (line("flags:", 8) & O_APPEND) != 0 ? fs::file_size(path_of(descriptor), failed) : line("pos:", 10);
    }

  private:
    fs::path in_proc(const std::string& name) const { return "/proc/" + std::to_string(thread_) + "/" + name; }

    pid_t thread_;
    user_regs_struct registers_{};
};

// What the call would change; nothing where it changes nothing below the folder.
std::optional<Change> change_by(const Stopped& stopped, const std::string& folder) {
    const auto beneath = [&](const std::string& path) -> std::optional<std::string> {
        if (path == folder) return "";
        if (!path.starts_with(folder + "/")) return std::nullopt;
        return path.substr(folder.size() + 1);
    };
    const auto a = [&](unsigned n) { return stopped.argument(n); };
    const auto told = [&](Kind kind, const std::string& path) -> std::optional<Change> {
        const auto name = beneath(path);
        if (!name) return std::nullopt;
        Change change;
        change.kind = kind;
        change.path = *name;
        return change;
    };
    const auto opened = [&](const std::string& path, std::uint64_t flags) -> std::optional<Change> {
        if ((flags & O_CREAT) == 0) return std::nullopt;
        auto change = told(Kind::file, path);
        if (change) change->empties = (flags & O_TRUNC) != 0;
        return change;
    };
    const auto renamed = [&](const std::string& from, const std::string& to) {
        auto change = told(Kind::rename, from);
        if (change) change->to = beneath(to).value_or("");
        return change;
    };
    const auto here = static_cast<std::uint64_t>(AT_FDCWD);
    switch (stopped.call()) {
        case SYS_write:
        case SYS_pwrite64:
        case SYS_writev: {
            auto change = told(Kind::write, stopped.path_of(a(0)));
            if (!change) return std::nullopt;
            change->offset = stopped.call() == SYS_pwrite64 ? a(3) : stopped.position_of(a(0));
            if (stopped.call() != SYS_writev) {
                change->bytes = stopped.bytes_at(a(1), a(2));
                return change;
            }
            const auto vectors = stopped.bytes_at(a(1), a(2) * sizeof(iovec));
            for (const iovec& part : std::span(reinterpret_cast<const iovec*>(vectors.data()), a(2))) {
                const auto bytes = stopped.bytes_at(reinterpret_cast<std::uint64_t>(part.iov_base), part.iov_len);
                change->bytes.insert(change->bytes.end(), bytes.begin(), bytes.end());
            }
            return change;
        }
        case SYS_ftruncate: {
            auto change = told(Kind::resize, stopped.path_of(a(0)));
            if (change) change->size = a(1);
            return change;
        }
        case SYS_open: return opened(stopped.path_from(here, a(0)), a(1));
        case SYS_openat: return opened(stopped.path_from(a(0), a(1)), a(2));
        case SYS_openat2: {
            std::uint64_t flags = 0;
            const auto how = stopped.bytes_at(a(2), sizeof flags);
            std::memcpy(&flags, how.data(), how.size());
            return opened(stopped.path_from(a(0), a(1)), flags);
        }
        case SYS_mkdir: return told(Kind::folder, stopped.path_from(here, a(0)));
        case SYS_mkdirat: return told(Kind::folder, stopped.path_from(a(0), a(1)));
        case SYS_rename: return renamed(stopped.path_from(here, a(0)), stopped.path_from(here, a(1)));
        case SYS_renameat:
        case SYS_renameat2: return renamed(stopped.path_from(a(0), a(1)), stopped.path_from(a(2), a(3)));
        case SYS_unlink:
        case SYS_rmdir: return told(Kind::remove, stopped.path_from(here, a(0)));
        case SYS_unlinkat: return told(Kind::remove, stopped.path_from(a(0), a(1)));
        case SYS_fsync:
        case SYS_fdatasync: return told(Kind::synced, stopped.path_of(a(0)));
        case SYS_syncfs: return told(Kind::all_synced, stopped.path_of(a(0)));
        default: return std::nullopt;
    }
}

void watch(pid_t child, const std::string& folder, const Mishap& mishap, SteppedIn& seen, int& status_of_child) {
    std::map<pid_t, Change> under_way;
    int status = 0;
    for (pid_t thread = 0; (thread = ::waitpid(-1, &status, __WALL)) > 0;) {
        if (!WIFSTOPPED(status)) {
            if (thread == child) status_of_child = status;
            continue;
        }
        int deliver = 0;
        bool waits_for_result = false;
        if (status >> 8 == (SIGTRAP | PTRACE_EVENT_SECCOMP << 8)) {
            Stopped stopped(thread);
            if (auto change = change_by(stopped, folder)) {
                const bool is_it = ++seen.calls == mishap.at;
                if (is_it && mishap.kind == Mishap::Kind::end) {
                    ::kill(child, SIGKILL);
                    continue;
                }
                const bool is_write = change->kind == Kind::write && stopped.call() != SYS_writev;
                if (is_it && mishap.kind == Mishap::Kind::part && is_write && stopped.argument(2) > 1)
                    stopped.change_third_argument(stopped.argument(2) / 2);
                if (is_it && mishap.kind == Mishap::Kind::error) {
                    stopped.refuse(mishap.error);
                } else {
                    under_way[thread] = std::move(*change);
                    waits_for_result = true;
                }
            }
        } else if (WSTOPSIG(status) == (SIGTRAP | 0x80)) {
            if (const auto found = under_way.find(thread); found != under_way.end()) {
                const long result = Stopped(thread).result();
                Change& change = found->second;
                if (change.kind == Kind::write && result >= 0) change.bytes.resize(static_cast<std::size_t>(result));
                if (result >= 0) seen.changes.push_back(std::move(change));
                under_way.erase(found);
            }
        } else if (const int signal = WSTOPSIG(status); status >> 16 == 0 && signal != SIGSTOP && signal != SIGTRAP) {
            deliver = signal;
        }
        ::ptrace(waits_for_result ? PTRACE_SYSCALL : PTRACE_CONT, thread, nullptr, deliver);
    }
}

#endif

}  // namespace

bool can_step_in() {
#if defined(__x86_64__)
    const pid_t child = ::fork();
    if (child == 0) ::_exit(::ptrace(PTRACE_TRACEME, 0, nullptr, nullptr) == 0 ? 0 : 1);
    return exit_code_of(child) == 0;
#else
    return false;
#endif
}

SteppedIn run_stepping_in(const std::vector<std::string>& words, const fs::path& folder, const Mishap& mishap) {
    SteppedIn seen;
#if defined(__x86_64__)
    const TempFolder spoken;
    const pid_t child = ::fork();
    if (child == 0) {
        const auto to = [&](const char* name) {
            return ::open((spoken / name).c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0600);
        };
        ::dup2(::open("/dev/null", O_RDONLY | O_CLOEXEC), 0);
        ::dup2(to("out"), 1);
        ::dup2(to("err"), 2);
        ask_to_be_traced();
        become("dredger", words, "");
    }
    int status = 0;
    ::waitpid(child, &status, 0);
    ::ptrace(PTRACE_SETOPTIONS, child, nullptr,
             PTRACE_O_TRACESECCOMP | PTRACE_O_TRACECLONE | PTRACE_O_TRACEFORK | PTRACE_O_TRACEVFORK |
                 PTRACE_O_TRACEEXEC | PTRACE_O_TRACESYSGOOD | PTRACE_O_EXITKILL);
    ::ptrace(PTRACE_CONT, child, nullptr, nullptr);
    watch(child, folder.string(), mishap, seen, status);
    seen.ran.exit_code = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
    seen.ran.out = read_text(spoken / "out");
    seen.ran.err = read_text(spoken / "err");
#endif
    return seen;
}

void PowerCut::apply(const Change& change) {
    const auto save = [](File& file) { file.saved = file.now; };
    const auto found = files_.find(change.path);
    switch (change.kind) {
        case Kind::file:
            if (found == files_.end())
                files_[change.path] = std::make_shared<File>();
            else if (change.empties)
                found->second->now.clear();
            return;
        case Kind::folder: folders_.push_back(change.path); return;
        case Kind::write:
            if (found != files_.end()) {
                auto& now = found->second->now;
                now.resize(std::max<std::size_t>(now.size(), change.offset + change.bytes.size()));
                std::copy(change.bytes.begin(), change.bytes.end(),
                          now.begin() + static_cast<std::ptrdiff_t>(change.offset));
            }
            return;
        case Kind::resize:
            if (found != files_.end()) found->second->now.resize(change.size);
            return;
        case Kind::rename:
            if (found != files_.end()) {
                const auto file = found->second;
                files_.erase(found);
                files_[change.to] = file;
            }
            return;
        case Kind::remove:
            files_.erase(change.path);
            std::erase(folders_, change.path);
            return;
        case Kind::synced:
            if (found != files_.end()) save(*found->second);
            return;
        case Kind::all_synced:
            for (auto& [path, file] : files_) save(*file);
            return;
    }
}

void PowerCut::lay_out(const fs::path& folder, Unsaved unsaved) const {
    fs::create_directories(folder);
    for (const std::string& path : folders_) fs::create_directories(folder / path);
    for (const auto& [path, file] : files_) {
        std::vector<std::byte> content = file->saved;
        if (unsaved == Unsaved::zeros) content.resize(file->now.size());
        fs::create_directories((folder / path).parent_path());
        write_text(folder / path, {reinterpret_cast<const char*>(content.data()), content.size()});
    }
}

}  // namespace dredger::test
