#include "support/conversation.h"

#include <array>
#include <poll.h>
#include <unistd.h>

#include "support/child.h"
#include "support/support.h"

namespace dredger::test {
namespace {

constexpr int kPatience = 60'000;  // milliseconds

// What a person reads, in one text.
std::string as_read(const std::string& written) {
    std::string text;
    for (const std::string& line : lines_on_terminal(written)) text += (text.empty() ? "" : "\n") + line;
    return text;
}

}  // namespace

Conversation::Conversation(const std::vector<std::string>& words, const std::string& before) {
    const OnTerminal started = start_on_terminal(words, 80, before);
    child_ = started.child;
    terminal_ = started.terminal;
}

Conversation::~Conversation() {
    if (terminal_ >= 0) (void)ends();
}

bool Conversation::reads() {
    pollfd wait{terminal_, POLLIN, 0};
    if (::poll(&wait, 1, kPatience) <= 0) return false;
    std::array<char, 4096> part{};
    const ssize_t had = ::read(terminal_, part.data(), part.size());
    if (had <= 0) return false;
    heard_.append(part.data(), static_cast<std::size_t>(had));
    return true;
}

bool Conversation::hears(const std::string& text) {
    for (;;) {
        const std::string read = as_read(heard_);
        if (const auto at = read.find(text); at != read.npos) {
            last_ = read.substr(0, at + text.size());
            heard_ = read.substr(at + text.size());
            return true;
        }
        if (!reads()) {
            last_ = read;
            return false;
        }
    }
}

void Conversation::says(const std::string& line) {
    const std::string typed = line + "\n";
    (void)!::write(terminal_, typed.data(), typed.size());
}

void Conversation::interrupts() { (void)!::write(terminal_, "\x03", 1); }

int Conversation::ends() {
    while (reads()) {
    }
    last_ = as_read(heard_);
    ::close(terminal_);
    terminal_ = -1;
    return exit_code_of(child_);
}

}  // namespace dredger::test
