// What the program knows of the terminal it writes to: its width, whether colour is welcome, interrupts, progress.
#pragma once

#include <chrono>
#include <string>
#include <string_view>

#include "base/error.h"
#include "base/observer.h"

namespace dredger::cli {

enum ExitCode {
    kDone = 0,
    kDoneInPart = 1,
    kUsage = 2,
    kSource = 3,
    kRefused = 4,
    kInterrupted = 130,
};

// Prints the error's line to stderr and returns the exit code that goes with its kind.
int report(const Error& error);
void warn(const std::string& sentence);

// Whether stdout was one when the program began; a pager between them changes nothing.
bool stdout_is_terminal();
// One that moves nothing and shows no colour.
bool is_dumb_terminal();

// Columns to write in: what COLUMNS says, or the terminal on stdout has; a large number where it is none, so that
// nothing is shortened.
std::size_t width_of_stdout();

enum class Style { plain, bold, dim, good, fair, poor, bad, unreadable };
// The text in a colour, where the manner of this run and the terminal welcome it.
std::string styled(std::string_view text, Style style);

// From now on Ctrl-C asks the running work to stop; a second one ends the program at once.
void catch_interrupts();
bool is_interrupted();
// What was interrupted has ended; something new begins.
void forget_interrupt();

// What a line of progress says in `width` columns: what is done, percent and time left, rate, bytes, finds; what is
// worth less gives way first. `rate`: units a second, 0 where it is not known.
std::string progress_text(const Progress& progress, double rate, std::size_t width);

// One line on stderr that is drawn over and over; nothing where stderr is no terminal.
class ProgressLine {
  public:
    ProgressLine();
    ~ProgressLine();
    ProgressLine(const ProgressLine&) = delete;
    ProgressLine& operator=(const ProgressLine&) = delete;

    void show(const Progress& progress);
    // Makes room for other output.
    void clear();

  private:
    using Clock = std::chrono::steady_clock;
    bool is_shown_;
    bool is_drawn_ = false;
    std::string doing_;
    std::uint64_t begun_at_ = 0;  // what was done when it began: a scan that goes on
    Clock::time_point started_, drawn_;
};

// Shows progress and warnings, and stops on Ctrl-C.
template <class Base>
class TerminalObserver : public Base {
  public:
    void progress(const Progress& progress) override { line_.show(progress); }
    void warning(const std::string& sentence) override {
        line_.clear();
        warn(sentence);
    }
    bool should_stop() override { return is_interrupted(); }
    ProgressLine& line() { return line_; }

  private:
    ProgressLine line_;
};

}  // namespace dredger::cli
