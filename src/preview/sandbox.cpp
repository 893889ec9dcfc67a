#include "preview/sandbox.h"

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <csignal>
#include <poll.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/checked.h"
#include "media/cached.h"

namespace dredger::preview {
namespace {

constexpr std::uint64_t kMostAnswer = 16 << 20;  // bytes
constexpr std::uint64_t kBlock = 128 << 10;      // bytes that are asked for at once
constexpr std::size_t kBlocksKept = 64;

// What goes through the tie: the child asks for content, or answers; the parent gives content.
struct Ask {
    std::uint64_t is_answer;
    std::uint64_t offset;
    std::uint64_t length;  // bytes; of an answer they follow
};
struct Give {
    std::uint64_t is_read;
    std::uint64_t bad;  // extents that could not be read; they follow the bytes
};

// Hands all of the bytes to `move`, a call like read() or write(), which takes some of them each time.
template <class Byte, class Move>
bool move_all(Byte* at, std::size_t length, const Move& move) {
    while (length > 0) {
        const ssize_t n = move(at, length);
        if (n < 0 && (errno == EINTR || errno == EAGAIN)) continue;
        if (n <= 0) return false;
        at += n;
        length -= static_cast<std::size_t>(n);
    }
    return true;
}

bool send_all(const void* bytes, std::size_t length) {
    return move_all(static_cast<const char*>(bytes), length,
                    [](const char* at, std::size_t left) { return ::write(kTie, at, left); });
}

bool receive_all(void* bytes, std::size_t length) {
    return move_all(static_cast<char*>(bytes), length,
                    [](char* at, std::size_t left) { return ::read(kTie, at, left); });
}

// The content as the child sees it, up to kBlock bytes at once.
class ThroughTheTie final : public Medium {
  public:
    ThroughTheTie(std::uint64_t size, std::uint32_t sector) : size_(size), sector_(sector) {}
    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return sector_; }
    std::string name() const override { return "content"; }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override {
        const Ask ask = {0, offset, into.size()};
        Give give{};
        bool came = send_all(&ask, sizeof ask) && receive_all(&give, sizeof give) && give.is_read == 1 &&
                    receive_all(into.data(), into.size());
        for (std::uint64_t n = 0; came && n < give.bad; ++n) {
            std::uint64_t place[2] = {};
            came = receive_all(place, sizeof place);
            bad.push_back({place[0], place[1]});
        }
        return came ? Result<void>() : fail(ErrorKind::unreadable, "the content can't be had");
    }

  private:
    std::uint64_t size_;
    std::uint32_t sector_;
};

[[noreturn]] void work(int tie, const Medium& content, const ConfinedJob& job, const SandboxLimits& limits,
                       const Confinement& confinement) {
    const Cached told(std::make_shared<ThroughTheTie>(content.size(), content.sector_size()), kBlocksKept, kBlock);
    confinement.enter(tie, limits);
    std::string answer;
    try {
        answer = job(told);
    } catch (...) {
        ::_exit(1);
    }
    const Ask head = {1, 0, answer.size()};
    ::_exit(send_all(&head, sizeof head) && send_all(answer.data(), answer.size()) ? 0 : 1);
}

// The parent's end of the tie. What comes through it may have been written by anyone.
class Serving {
  public:
    Serving(int tie, const Medium& content, std::chrono::seconds patience)
        : tie_(tie), content_(content), end_(std::chrono::steady_clock::now() + patience) {}

    // The child's answer, when all that it asked for was given; none where it asks for what can't be, or takes too
    // long.
    std::optional<std::string> run() {
        for (;;) {
            Ask ask{};
            if (!receive(&ask, sizeof ask)) return std::nullopt;
            if (ask.is_answer != 0) {
                if (ask.length > kMostAnswer) return std::nullopt;
                std::string answer(static_cast<std::size_t>(ask.length), '\0');
                return receive(answer.data(), answer.size()) ? std::optional(std::move(answer)) : std::nullopt;
            }
            if (!give(ask)) return std::nullopt;
        }
    }

  private:
    bool give(const Ask& ask) {
        if (ask.length > kBlock || !lies_within(ask.offset, ask.length, content_.size())) return false;
        std::vector<std::byte> bytes(static_cast<std::size_t>(ask.length));
        std::vector<Extent> bad;
        const bool is_read = content_.read(ask.offset, bytes, &bad).has_value();
        const Give head = {is_read ? 1U : 0U, bad.size()};
        if (!send(&head, sizeof head)) return false;
        if (!is_read) return true;
        if (!send(bytes.data(), bytes.size())) return false;
        for (const Extent& lost : bad) {
            const std::uint64_t place[2] = {lost.offset, lost.length};
            if (!send(place, sizeof place)) return false;
        }
        return true;
    }

    bool is_ready(short what) const {
        for (;;) {
            const auto left =
                std::chrono::duration_cast<std::chrono::milliseconds>(end_ - std::chrono::steady_clock::now()).count();
            pollfd wait = {tie_, what, 0};
            const int ready = left > 0 ? ::poll(&wait, 1, static_cast<int>(left)) : 0;
            if (ready >= 0 || errno != EINTR) return ready > 0;
        }
    }

    bool receive(void* into, std::size_t length) const {
        return move_all(static_cast<char*>(into), length, [this](char* at, std::size_t left) -> ssize_t {
            return is_ready(POLLIN) ? ::recv(tie_, at, left, MSG_DONTWAIT) : 0;
        });
    }

    // A child that is gone is no signal.
    bool send(const void* from, std::size_t length) const {
        return move_all(static_cast<const char*>(from), length, [this](const char* at, std::size_t left) -> ssize_t {
            return is_ready(POLLOUT) ? ::send(tie_, at, left, MSG_NOSIGNAL | MSG_DONTWAIT) : 0;
        });
    }

    int tie_;
    const Medium& content_;
    std::chrono::steady_clock::time_point end_;
};

}  // namespace

std::optional<std::string> run_apart(const Medium& content, const ConfinedJob& job, const SandboxLimits& limits) {
    static const Confinement confinement;
    int ends[2];
    if (::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends) != 0) return std::nullopt;
    const pid_t child = ::fork();
    if (child == 0) work(ends[1], content, job, limits, confinement);
    ::close(ends[1]);
    std::optional<std::string> answer;
    if (child > 0) answer = Serving(ends[0], content, std::chrono::seconds(3 * limits.seconds)).run();
    ::close(ends[0]);
    if (child <= 0) return std::nullopt;
    if (!answer) ::kill(child, SIGKILL);
    int status = 0;
    while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
    }
    return answer && WIFEXITED(status) && WEXITSTATUS(status) == 0 ? answer : std::nullopt;
}

}  // namespace dredger::preview
