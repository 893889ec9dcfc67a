#include "preview/confinement.h"

#include <cerrno>
#include <fcntl.h>
#include <fstream>
#include <grp.h>
#include <linux/landlock.h>
#include <linux/seccomp.h>
#include <memory>
#include <sched.h>
#include <seccomp.h>
#include <span>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/file_io.h"

namespace dredger::preview {
namespace {

constexpr uid_t kNobody = 65534;
constexpr rlim_t kMostFiles = 128;

// Where programs have what is nobody's secret: fonts and what names them, libraries, tables of text.
constexpr const char* kReadable[] = {"/usr",
                                     "/lib",
                                     "/lib64",
                                     "/etc/fonts",
                                     "/etc/alternatives",
                                     "/etc/ld.so.cache",
                                     "/etc/localtime",
                                     "/var/cache/fontconfig"};

constexpr const char* kAllowed[] = {
    // its tie, and files that Landlock lets it read
    "read", "readv", "write", "writev", "pread64", "lseek", "close", "fstat", "newfstatat", "stat", "lstat", "statx",
    "access", "faccessat", "faccessat2", "readlink", "readlinkat", "getdents64", "fcntl", "fadvise64", "fstatfs",
    "statfs", "getcwd", "poll", "ppoll", "dup",
    // memory
    "mmap", "munmap", "mremap", "mprotect", "madvise", "brk", "membarrier",
    // threads of its own, time, chance
    "futex", "set_robust_list", "get_robust_list", "rseq", "sched_yield", "sched_getaffinity", "set_tid_address",
    "clock_gettime", "clock_getres", "clock_nanosleep", "nanosleep", "gettimeofday", "time", "times", "getrandom",
    "getpid", "gettid", "getuid", "geteuid", "getgid", "getegid", "getrusage", "sysinfo", "uname", "arch_prctl",
    "rt_sigaction", "rt_sigprocmask", "rt_sigreturn", "sigaltstack", "restart_syscall", "exit", "exit_group"};

int landlock_version() {
    return static_cast<int>(
        ::syscall(SYS_landlock_create_ruleset, nullptr, std::size_t{0}, LANDLOCK_CREATE_RULESET_VERSION));
}

void close_all_but(int tie) {
    const int nothing = ::open("/dev/null", O_RDWR | O_CLOEXEC);
    for (const int usual : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO})
        if (nothing >= 0) ::dup2(nothing, usual);
    if (tie != kTie) ::dup2(tie, kTie);
    ::syscall(SYS_close_range, static_cast<unsigned>(kTie + 1), ~0U, 0U);
}

void set_limits(const SandboxLimits& limits) {
    const auto limit = [](auto what, rlim_t soft, rlim_t hard) {
        const rlimit most = {soft, hard};
        ::setrlimit(what, &most);
    };
#if !defined(__SANITIZE_ADDRESS__)  // whose shadow memory takes terabytes of address space
    std::uint64_t pages = 0;
    std::ifstream("/proc/self/statm") >> pages;
    const rlim_t memory = pages * static_cast<std::uint64_t>(::sysconf(_SC_PAGESIZE)) + limits.memory;
    limit(RLIMIT_AS, memory, memory);
#endif
    limit(RLIMIT_CPU, limits.seconds, limits.seconds + 1);
    limit(RLIMIT_CORE, 0, 0);
    limit(RLIMIT_FSIZE, 0, 0);
    limit(RLIMIT_NOFILE, kMostFiles, kMostFiles);
}

void drop_root() {
    if (::geteuid() != 0) return;
    (void)::setgroups(0, nullptr);
    (void)::setresgid(kNobody, kNobody, kNobody);
    (void)::setresuid(kNobody, kNobody, kNobody);
}

#if !defined(__SANITIZE_ADDRESS__)  // which looks into /proc when it has something to tell

void read_only_what_is_nobodys() {
    landlock_ruleset_attr handled{};
    // All that the first version knows, which later ones add to.
    handled.handled_access_fs = (LANDLOCK_ACCESS_FS_MAKE_SYM << 1U) - 1;
    const int rules = static_cast<int>(::syscall(SYS_landlock_create_ruleset, &handled, sizeof handled, 0U));
    if (rules < 0) return;
    for (const char* path : kReadable) {
        landlock_path_beneath_attr beneath{};
        beneath.parent_fd = ::open(path, O_PATH | O_CLOEXEC);
        if (beneath.parent_fd < 0) continue;
        beneath.allowed_access = LANDLOCK_ACCESS_FS_READ_FILE | LANDLOCK_ACCESS_FS_READ_DIR;
        if (::syscall(SYS_landlock_add_rule, rules, LANDLOCK_RULE_PATH_BENEATH, &beneath, 0U) != 0) {
            beneath.allowed_access = LANDLOCK_ACCESS_FS_READ_FILE;  // it is no folder
            ::syscall(SYS_landlock_add_rule, rules, LANDLOCK_RULE_PATH_BENEATH, &beneath, 0U);
        }
        ::close(beneath.parent_fd);
    }
    ::syscall(SYS_landlock_restrict_self, rules, 0U);
    ::close(rules);
}

// What is not allowed fails, so that libraries that can do without it go on.
std::vector<sock_filter> filter_of_calls() {
    const std::unique_ptr<void, void (*)(void*)> filter(::seccomp_init(SCMP_ACT_ERRNO(EPERM)), ::seccomp_release);
    if (filter == nullptr) return {};
    const auto number = [](const char* name) { return ::seccomp_syscall_resolve_name(name); };
    for (const char* name : kAllowed) ::seccomp_rule_add(filter.get(), SCMP_ACT_ALLOW, number(name), 0);
    for (const auto& [name, argument] : {std::pair("open", 1U), std::pair("openat", 2U)})
        ::seccomp_rule_add(filter.get(), SCMP_ACT_ALLOW, number(name), 1,
                           SCMP_CMP(argument, SCMP_CMP_MASKED_EQ, O_ACCMODE | O_CREAT | O_TRUNC, O_RDONLY));
    ::seccomp_rule_add(filter.get(), SCMP_ACT_ALLOW, number("clone"), 1,
                       SCMP_CMP(0, SCMP_CMP_MASKED_EQ, CLONE_THREAD, CLONE_THREAD));
    // Its flags can't be seen; without it the C library takes the older call.
    ::seccomp_rule_add(filter.get(), SCMP_ACT_ERRNO(ENOSYS), number("clone3"), 0);
    // The library hands it out through a descriptor only.
    const int descriptor = ::memfd_create("calls", MFD_CLOEXEC);
    std::vector<sock_filter> program;
    if (descriptor >= 0 && ::seccomp_export_bpf(filter.get(), descriptor) == 0) {
        program.resize(static_cast<std::size_t>(::lseek(descriptor, 0, SEEK_END)) / sizeof(sock_filter));
        if (read_all(descriptor, 0, std::as_writable_bytes(std::span(program))) != program.size() * sizeof(sock_filter))
            program.clear();
    }
    if (descriptor >= 0) ::close(descriptor);
    return program;
}

#else
void read_only_what_is_nobodys() {}
std::vector<sock_filter> filter_of_calls() { return {}; }
#endif

}  // namespace

Confinement::Confinement() : few_calls_(filter_of_calls()) {}

void Confinement::enter(int tie, const SandboxLimits& limits) const {
    close_all_but(tie);
    set_limits(limits);
    drop_root();
    ::prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
    read_only_what_is_nobodys();
    if (few_calls_.empty()) return;
    const sock_fprog program = {static_cast<unsigned short>(few_calls_.size()),
                                const_cast<sock_filter*>(few_calls_.data())};  // which the kernel only reads
    ::prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, &program, 0, 0);
}

std::vector<std::string> confinement_lacks() {
    std::vector<std::string> lacks;
    if (landlock_version() < 1)
        lacks.emplace_back("this kernel has no Landlock: what decodes previews could read files that anyone may read");
    if (::prctl(PR_GET_SECCOMP, 0, 0, 0, 0) < 0)
        lacks.emplace_back("this kernel filters no system calls: what decodes previews is bound by its user's rights");
    return lacks;
}

}  // namespace dredger::preview
