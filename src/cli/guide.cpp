// The guided rescue: the conversation of guiding/, on a terminal of any kind.
#include "guiding/guide.h"

#include <CLI/CLI.hpp>
#include <cstdio>
#include <fmt/format.h>
#include <unistd.h>

#include "base/text.h"
#include "cli/commands.h"
#include "cli/manner.h"
#include "cli/terminal.h"
#include "cli/this_machine.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

using guiding::Question;
using guiding::Reply;

std::string without_blanks(const std::string& text) {
    const auto first = text.find_first_not_of(" \t\r\n");
    if (first == text.npos) return {};
    return text.substr(first, text.find_last_not_of(" \t\r\n") - first + 1);
}

class TerminalTalk final : public guiding::Talk {
  public:
    void heading(const std::string& text) override { fmt::print("\n{}\n", styled(text, Style::bold)); }

    void say(const std::string& text) override { fmt::print("{}\n", wrapped_lines(text, width_of_stdout())); }

    Reply ask(const Question& question) override {
        for (;;) {
            fmt::print("{}", styled(fmt::format("{} [{}]: ", question.asks, question.fallback), Style::bold));
            (void)std::fflush(stdout);
            const auto line = next_line();
            if (!line) return {Reply::Way::later, {}};
            const std::string words = line->empty() ? question.fallback : *line;
            if (words == "q") return {Reply::Way::later, {}};
            if (words == "b") return {Reply::Way::back, {}};
            if (words == "?") {
                say(question.explains);
                say("Enter: " + question.fallback + ". b: back. q: leave, everything is kept.");
                continue;
            }
            const std::string objection = question.objection(words);
            if (objection.empty()) return {Reply::Way::answered, words};
            say(objection + " ? explains.");
        }
    }

    int run(const std::vector<std::string>& words) override {
        fmt::print("\n");
        const int code = run_shown(words);
        forget_interrupt();
        (void)std::fflush(stdout);
        return code;
    }

  private:
    // Nothing at the end of what can be read, and after Ctrl-C.
    std::optional<std::string> next_line() {
        forget_interrupt();
        catch_interrupts();
        std::string line;
        for (char c = 0;;) {
            const auto had = ::read(STDIN_FILENO, &c, 1);
            if (had <= 0 && line.empty()) {
                fmt::print("\n");
                return std::nullopt;
            }
            if (had <= 0 || c == '\n') return without_blanks(line);
            line += c;
        }
    }
};

struct Options {
    std::vector<std::string> to, left_out;
    std::string attacher;
};

int guide(const Options& options) {
    manner().pages = false;  // each command's output stays on the screen
    manner().suggests = false;
    TerminalTalk talk;
    ThisMachine machine(options.to, options.attacher, options.left_out);
    switch (guiding::guide(talk, machine)) {
        case guiding::Ended::done:
        case guiding::Ended::found_elsewhere: break;
        case guiding::Ended::without_report: return kDoneInPart;
        case guiding::Ended::later: return kInterrupted;
    }
    return kDone;
}

}  // namespace

void add_guide(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("guide", "Do a whole rescue by questions and answers");
    auto options = std::make_shared<Options>();
    command->add_option("--to", options->to, "folder that is offered first for what is found; may be repeated")
        ->type_name("FOLDER")
        ->allow_extra_args(false);
    command
        ->add_option("--attach", options->attacher,
                     "program that makes a device or a network share ready to be written to: it gets its name and "
                     "prints the folder")
        ->type_name("PROGRAM");
    command->add_option("--leave-out", options->left_out, "drive that is not offered for a rescue; may be repeated")
        ->type_name("DEVICE")
        ->allow_extra_args(false);
    command->footer(
        "Enter takes the answer in brackets, ? explains a question, b goes back, q or Ctrl-C leaves and keeps\n"
        "everything: the same command goes on. Each command that it runs is shown, and kept in commands.txt.\n\n"
        "Examples:\n"
        "  sudo dredger guide\n"
        "  dredger guide --to /media/station/rescue");
    command->callback([options, &exit_code] { exit_code = guide(*options); });
}

}  // namespace dredger::cli
