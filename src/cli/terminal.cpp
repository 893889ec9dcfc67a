#include "cli/terminal.h"

#include <cstdio>
#include <cstdlib>
#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "base/palette.h"
#include "base/text.h"
#include "cli/manner.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

volatile sig_atomic_t interrupted = 0;

bool colour_is_welcome() {
    switch (manner().wanted_colour()) {
        case Colour::always: return true;
        case Colour::never: return false;
        case Colour::automatic: break;
    }
    // https://no-color.org: set to anything but nothing.
    const char* no_colour = std::getenv("NO_COLOR");
    return stdout_is_terminal() && !is_dumb_terminal() && (no_colour == nullptr || *no_colour == '\0');
}

constexpr std::chrono::milliseconds kRedraw{100};
constexpr std::size_t kNarrowest = 20;

// What COLUMNS says, 0 where that is no number of columns.
std::size_t told_columns() {
    const char* text = std::getenv("COLUMNS");
    const auto columns = text != nullptr ? std::strtoul(text, nullptr, 10) : 0;
    return columns >= kNarrowest && columns < 10'000 ? columns : 0;
}

std::size_t width_of(int file, std::size_t otherwise) {
    if (const std::size_t told = told_columns(); told > 0) return told;
    winsize size{};
    return ::ioctl(file, TIOCGWINSZ, &size) == 0 && size.ws_col > 0 ? size.ws_col : otherwise;
}

// The last column is left free: some terminals begin a new line there.
std::size_t width_of_stderr() { return width_of(STDERR_FILENO, 80) - 1; }

// One line for programs that read along; wrapped for who sits there.
void print_to_stderr(const std::string& line) {
    fmt::print(stderr, "{}\n", ::isatty(STDERR_FILENO) != 0 ? wrapped(line, width_of_stderr(), 2) : line);
}

int terminal_on_stdout() {
    static const int one = ::isatty(STDOUT_FILENO) != 0 ? ::fcntl(STDOUT_FILENO, F_DUPFD_CLOEXEC, 3) : -1;
    return one;
}

}  // namespace

int report(const Error& error) {
    note("error: " + error.line());
    print_to_stderr("dredger: " + error.line());
    switch (error.kind) {
        case ErrorKind::unreadable:
        case ErrorKind::not_understood: return kSource;
        case ErrorKind::unsafe: return kRefused;
        case ErrorKind::interrupted: return kInterrupted;
        case ErrorKind::gave_out: return kDoneInPart;
        case ErrorKind::usage:
        case ErrorKind::output: break;
    }
    return kUsage;
}

void warn(const std::string& sentence) {
    note("note: " + sentence);
    if (!manner().quiet && !manner().verbose) print_to_stderr("dredger: note: " + sentence);
}

bool stdout_is_terminal() { return terminal_on_stdout() >= 0; }

bool is_dumb_terminal() {
    const char* terminal = std::getenv("TERM");
    return terminal != nullptr && std::string_view(terminal) == "dumb";
}

std::size_t width_of_stdout() {
    constexpr std::size_t kUnbounded = 100'000;
    if (stdout_is_terminal()) return width_of(terminal_on_stdout(), 80);
    const std::size_t told = told_columns();
    return told > 0 ? told : kUnbounded;
}

std::string styled(std::string_view text, Style style) {
    if (!colour_is_welcome() || style == Style::plain) return std::string(text);
    const auto in_colour = [&](const palette::Colour& colour) {
        return fmt::format("\x1B[38;5;{}m{}\x1B[0m", colour.in_256, text);
    };
    const char* code = "";
    switch (style) {
        case Style::plain: break;
        case Style::bold: code = "1"; break;
        case Style::dim: code = "2"; break;
        case Style::good: return in_colour(palette::kSound);
        case Style::fair: return in_colour(palette::kPatchy);
        case Style::poor: return in_colour(palette::kFaint);
        case Style::bad: return in_colour(palette::kGone);
        case Style::unreadable: return in_colour(palette::kUnreadable);
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

void forget_interrupt() { interrupted = 0; }

namespace {

std::string time_left_text(std::uint64_t seconds) {
    if (seconds >= 3600) return fmt::format("{}:{:02}:{:02} left", seconds / 3600, seconds / 60 % 60, seconds % 60);
    return fmt::format("{}:{:02} left", seconds / 60, seconds % 60);
}

// With a blank behind it; nothing where there is too little room to tell anything.
std::string bar_of(double share, std::size_t room) {
    constexpr std::size_t kLeast = 6, kMost = 24;
    if (room < kLeast + 1) return {};
    const std::size_t columns = std::min(kMost, room - 1);
    std::string bar;
    for (std::size_t i = 0; i < columns; ++i)
        bar += static_cast<double>(i) < share * static_cast<double>(columns) ? "━" : "╌";
    return bar + " ";
}

// What there is to say behind what is done now, in the order of its worth.
std::vector<std::string> parts_of(const Progress& p, double rate) {
    const bool is_bytes = std::string_view(p.unit) == "bytes";
    const auto amount = [&](double n) {
        const auto whole = static_cast<std::uint64_t>(n);
        return is_bytes ? size_text(whole) : fmt::format("{} {}", count_text(whole), p.unit);
    };
    std::vector<std::string> parts;
    if (p.total > 0) {
        std::string far = fmt::format("{:.0f} %", 100.0 * static_cast<double>(p.done) / static_cast<double>(p.total));
        if (rate > 0 && p.total > p.done)
            far += ", " + time_left_text(static_cast<std::uint64_t>(static_cast<double>(p.total - p.done) / rate));
        parts.push_back(std::move(far));
    }
    if (rate > 0) parts.push_back(amount(rate) + "/s");
    parts.push_back(amount(static_cast<double>(p.done)));
    if (p.finds > 0) parts.push_back(fmt::format("finds {}", count_text(p.finds)));
    return parts;
}

}  // namespace

std::string progress_text(const Progress& p, double rate, std::size_t width) {
    constexpr std::string_view kGap = "  ";
    std::string said;
    const auto fits = [&](const std::string& more) {
        return display_width(p.doing) + 2 * kGap.size() + display_width(said) + display_width(more) <= width;
    };
    bool has_all = true;
    for (const std::string& part : parts_of(p, rate)) {
        has_all = has_all && fits(part);
        if (has_all) said += (said.empty() ? "" : std::string(kGap)) + part;
    }
    // Of which kinds they are, as many as there is room for.
    std::string kinds = has_all ? p.detail : "";
    while (!kinds.empty() && !fits(kinds)) {
        const auto comma = kinds.rfind(", ");
        kinds.resize(comma == kinds.npos ? 0 : comma);
    }
    if (!kinds.empty()) said += ": " + kinds;
    const std::size_t taken = display_width(p.doing) + kGap.size() + display_width(said);
    const double share = p.total > 0 ? static_cast<double>(p.done) / static_cast<double>(p.total) : 0;
    const std::string bar = p.total > 0 && taken < width ? bar_of(share, width - taken) : "";
    return shortened(fmt::format("{}{}{}{}", p.doing, kGap, bar, said), width);
}

ProgressLine::ProgressLine() : is_shown_(::isatty(STDERR_FILENO) != 0 && !manner().quiet && !is_dumb_terminal()) {}
ProgressLine::~ProgressLine() { clear(); }

void ProgressLine::show(const Progress& p) {
    const auto now = Clock::now();
    if (doing_ != p.doing) {
        doing_ = p.doing;
        started_ = now;
        begun_at_ = p.done;
        drawn_ = {};
        note(p.total > 0 ? fmt::format("{} ({} {})", p.doing, count_text(p.total), p.unit) : p.doing);
    }
    if (!is_shown_ || now - drawn_ < kRedraw) return;
    drawn_ = now;
    const double seconds = std::chrono::duration<double>(now - started_).count();
    const double rate = seconds > 0 ? static_cast<double>(p.done - std::min(begun_at_, p.done)) / seconds : 0;
    fmt::print(stderr, "\r\x1B[K{}", progress_text(p, rate, width_of_stderr()));
    (void)std::fflush(stderr);
    is_drawn_ = true;
}

void ProgressLine::clear() {
    if (is_drawn_) fmt::print(stderr, "\r\x1B[K");
    is_drawn_ = false;
}

}  // namespace dredger::cli
