#include "cli/terminal.h"

#include <cstdio>
#include <cstdlib>
#include <fmt/format.h>
#include <signal.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "base/text.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

volatile sig_atomic_t interrupted = 0;

bool colour_is_welcome() {
    static const bool welcome = ::isatty(STDOUT_FILENO) != 0 && std::getenv("NO_COLOR") == nullptr;
    return welcome;
}

constexpr std::chrono::milliseconds kRedraw{100};

std::size_t width_of_stderr() {
    winsize size{};
    return ::ioctl(STDERR_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 1 ? size.ws_col - 1U : 79;
}

}  // namespace

int report(const Error& error) {
    fmt::print(stderr, "dredger: {}\n", error.line());
    switch (error.kind) {
        case ErrorKind::unreadable:
        case ErrorKind::not_understood: return kSource;
        case ErrorKind::unsafe: return kRefused;
        case ErrorKind::interrupted: return kInterrupted;
        case ErrorKind::usage:
        case ErrorKind::output: break;
    }
    return kUsage;
}

void warn(const std::string& sentence) { fmt::print(stderr, "dredger: note: {}\n", sentence); }

std::size_t width_of_stdout() {
    winsize size{};
    if (::isatty(STDOUT_FILENO) == 0) return 100'000;
    if (::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 0) return size.ws_col;
    return 80;
}

std::string styled(std::string_view text, Style style) {
    if (!colour_is_welcome() || style == Style::plain) return std::string(text);
    const char* code = "";
    switch (style) {
        case Style::plain: break;
        case Style::bold: code = "1"; break;
        case Style::dim: code = "2"; break;
        case Style::good: code = "36"; break;
        case Style::fair: code = "33"; break;
        case Style::poor: code = "35"; break;
        case Style::bad: code = "2"; break;
    }
    return fmt::format("\x1B[{}m{}\x1B[0m", code, text);
}

void catch_interrupts() {
    struct sigaction action {};
    action.sa_handler = [](int) { interrupted = 1; };
    action.sa_flags = static_cast<int>(SA_RESETHAND);
    ::sigaction(SIGINT, &action, nullptr);
    ::sigaction(SIGTERM, &action, nullptr);
}

bool is_interrupted() { return interrupted != 0; }

ProgressLine::ProgressLine() : is_terminal_(::isatty(STDERR_FILENO) != 0) {}
ProgressLine::~ProgressLine() { clear(); }

void ProgressLine::show(const Progress& p) {
    if (!is_terminal_) return;
    const auto now = Clock::now();
    if (doing_ != p.doing) {
        doing_ = p.doing;
        started_ = now;
        begun_at_ = p.done;
        drawn_ = {};
    }
    if (now - drawn_ < kRedraw) return;
    drawn_ = now;
    const double seconds = std::chrono::duration<double>(now - started_).count();
    const double rate = seconds > 0 ? static_cast<double>(p.done - std::min(begun_at_, p.done)) / seconds : 0;
    const bool is_bytes = std::string_view(p.unit) == "bytes";
    const auto amount = [&](double n) {
        return is_bytes ? size_text(static_cast<std::uint64_t>(n)) : count_text(static_cast<std::uint64_t>(n));
    };
    std::string line = fmt::format("{}  ", p.doing);
    if (p.total > 0) {
        constexpr std::size_t kBar = 24;
        const std::size_t filled = static_cast<std::size_t>(static_cast<double>(kBar) * static_cast<double>(p.done) /
                                                            static_cast<double>(p.total));
        for (std::size_t i = 0; i < kBar; ++i) line += i < filled ? "━" : "╌";
        line += fmt::format(" {:3.0f} %  ", 100.0 * static_cast<double>(p.done) / static_cast<double>(p.total));
    }
    line += amount(static_cast<double>(p.done));
    if (!is_bytes) line += fmt::format(" {}", p.unit);
    if (rate > 0) line += fmt::format("  {}/s", amount(rate));
    if (rate > 0 && p.total > p.done) {
        const auto left = static_cast<std::uint64_t>(static_cast<double>(p.total - p.done) / rate);
        line += fmt::format("  {}:{:02} left", left / 60, left % 60);
    }
    if (p.finds > 0) line += fmt::format("  finds {}", count_text(p.finds));
    if (!p.detail.empty()) line += fmt::format(": {}", p.detail);
    line = shortened(line, width_of_stderr());
    fmt::print(stderr, "\r\x1B[K{}", line);
    (void)std::fflush(stderr);
    is_drawn_ = true;
}

void ProgressLine::clear() {
    if (is_drawn_) fmt::print(stderr, "\r\x1B[K");
    is_drawn_ = false;
}

}  // namespace dredger::cli
