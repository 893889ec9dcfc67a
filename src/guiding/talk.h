// The other side of a conversation: who hears what is said, answers questions, and sees commands run. The terminal
// implements it; tests do too.
#pragma once

#include <functional>
#include <string>
#include <vector>

namespace dredger::guiding {

struct Question {
    std::string asks;      // "Numbers"
    std::string fallback;  // what Enter means; must be an answer that is taken
    std::string explains;  // what `?` tells
    // Why these words are no answer; empty where they are one. Asked for the fallback, too.
    std::function<std::string(const std::string&)> objection = [](const std::string&) { return std::string(); };
};

struct Reply {
    enum class Way {
        answered,
        back,   // to the question before
        later,  // leave, and keep everything
    };
    Way way = Way::answered;
    std::string words;  // without blanks around them; where it is answered
};

class Talk {
  public:
    virtual ~Talk() = default;
    virtual void heading(const std::string& text) = 0;
    // Lines that are broken where they are too long; what is indented stays so.
    virtual void say(const std::string& text) = 0;
    // Asks until the answer is one; explains, and says what is wrong with others.
    virtual Reply ask(const Question& question) = 0;
    // Runs a command of this program, by its words behind the program's name, and shows it. Gives its exit code.
    virtual int run(const std::vector<std::string>& words) = 0;
};

}  // namespace dredger::guiding
