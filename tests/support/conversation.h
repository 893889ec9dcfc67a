// A talk with the built program on a terminal of 80 columns and 24 lines: what it asks is waited for, then answered.
#pragma once

#include <string>
#include <sys/types.h>
#include <vector>

namespace dredger::test {

class Conversation {
  public:
    // Runs the program with these words; `before`: shell words before it, as run_program() takes them.
    explicit Conversation(const std::vector<std::string>& words, const std::string& before = "");
    ~Conversation();
    Conversation(const Conversation&) = delete;
    Conversation& operator=(const Conversation&) = delete;

    // Waits until this text comes behind all that was waited for before; false where it ends, or a minute goes by,
    // without it. What came is in last() then, without colours.
    bool hears(const std::string& text);
    // Types a line.
    void says(const std::string& line);
    // hears() and says().
    bool answers(const std::string& prompt, const std::string& line) {
        if (!hears(prompt) || !hears("]: ")) return false;
        says(line);
        return true;
    }
    void interrupts();  // Ctrl-C
    // What came between the last two texts that were waited for.
    const std::string& last() const { return last_; }
    // All that is still said, and the exit code.
    int ends();

  private:
    bool reads();

    pid_t child_ = -1;
    int terminal_ = -1;
    std::string heard_;  // not waited for yet
    std::string last_;
};

}  // namespace dredger::test
