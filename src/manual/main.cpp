// Writes the program's manual pages and completion: dredger_manual OUT DOCS DATE.
#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <sstream>

#include "cli/commands.h"
#include "cli/takes.h"
#include "manual/command_page.h"
#include "manual/completion/completion.h"
#include "manual/document_page.h"

namespace {

namespace fs = std::filesystem;
using namespace dredger;

const std::pair<manual::DocumentPage, const char*> kDocuments[] = {
    {{"dredger", 7, "the job from start to end: bring back deleted files"}, "job.md"},
    {{"dredger-catalog", 5, "what a catalog of finds keeps"}, "catalog.md"},
    {{"dredger-formats", 5, "formats of your own, to be found by their content"}, "own-formats.md"},
    {{"dredger-picks", 5, "lists of chosen finds"}, "picks.md"},
    {{"dredger-settings", 5, "what you want of every run"}, "settings.md"},
};

bool write(const fs::path& file, const std::string& text) {
    std::ofstream out(file, std::ios::binary);
    out << text;
    out.close();
    if (!out) fmt::print(stderr, "dredger_manual: can't be written: {}\n", file.string());
    return static_cast<bool>(out);
}

}  // namespace

int main(int count, char** words) {
    if (count != 4) {
        fmt::print(stderr, "dredger_manual OUT DOCS DATE\n");
        return 2;
    }
    const fs::path out = words[1], docs = words[2];
    const std::string date = words[3];
    int exit_code = 0;
    const auto program = cli::make_program(exit_code);
    for (const char* folder : {"man", "completion"}) fs::create_directories(out / folder);
    auto commands = cli::all_commands_of(*program);
    commands.push_back(program.get());
    bool good = true;
    for (const CLI::App* command : commands)
        good = good && write(out / "man" / (manual::page_name(*command) + ".1"), manual::command_page(*command, date));
    for (const auto& [page, file] : kDocuments) {
        std::ifstream in(docs / file, std::ios::binary);
        std::stringstream markdown;
        markdown << in.rdbuf();
        const auto text = manual::document_page(page, markdown.str(), date);
        if (!in || !text) {
            fmt::print(stderr, "dredger_manual: can't be read: {}\n", (docs / file).string());
            return 1;
        }
        good = good && write(out / "man" / fmt::format("{}.{}", page.name, page.section), *text);
    }
    good = good && write(out / "completion/dredger", manual::bash_completion(*program)) &&
           write(out / "completion/_dredger", manual::zsh_completion(*program)) &&
           write(out / "completion/dredger.fish", manual::fish_completion(*program));
    return good ? 0 : 1;
}
