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

// Columns of the terminal on stdout; a large number where it is none, so that nothing is shortened.
std::size_t width_of_stdout();

enum class Style { plain, bold, dim, good, fair, poor, bad };
// The text in a colour where stdout is a terminal and NO_COLOR is not set.
std::string styled(std::string_view text, Style style);

// From now on Ctrl-C asks the running work to stop; a second one ends the program at once.
void catch_interrupts();
bool is_interrupted();

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
    bool is_terminal_;
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
