#include "support/conversation.h"

#include <array>
#include <cstdlib>
#include <poll.h>
#include <pty.h>
#include <unistd.h>

#include "support/child.h"

namespace dredger::test {
namespace {

constexpr int kPatience = 60'000;  // milliseconds

// What a person reads: without colours, lines drawn anew and carriage returns.
std::string as_read(const std::string& written) {
    std::string text;
    for (std::size_t at = 0; at < written.size(); ++at) {
        if (written[at] == '\x1B')
            at = std::min(written.find_first_of("mK", at), written.size());
        else if (written[at] != '\r')
            text += written[at];
    }
    return text;
}

}  // namespace

Conversation::Conversation(const std::vector<std::string>& words, const std::string& before) {
    winsize size{};
    size.ws_col = 80;
    size.ws_row = 24;
    child_ = ::forkpty(&terminal_, nullptr, nullptr, &size);
    if (child_ == 0) {
        ::unsetenv("COLUMNS");
        ::setenv("TERM", "vt220", 1);
        become("dredger", words, before);
    }
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
