#include <clocale>
#include <exception>

#include "cli/commands.h"
#include "cli/terminal.h"

int main(int count, char** words) {
    (void)std::setlocale(LC_ALL, "");
    try {
        return dredger::cli::run({words + 1, words + count});
    } catch (const std::exception& error) {
        return dredger::cli::report(
            {dredger::ErrorKind::output, std::string("this should not have happened: ") + error.what(), "", ""});
    }
}
