// The commands. Each adds itself to the program, with its options and examples, and sets the exit code when it ran.
#pragma once

#include <memory>
#include <string>
#include <vector>

namespace CLI {
class App;
}

namespace dredger::cli {

void add_survey(CLI::App& program, int& exit_code);
void add_scan(CLI::App& program, int& exit_code);
void add_list(CLI::App& program, int& exit_code);
void add_show(CLI::App& program, int& exit_code);
void add_versions(CLI::App& program, int& exit_code);
void add_preview(CLI::App& program, int& exit_code);
void add_restore(CLI::App& program, int& exit_code);
void add_repair(CLI::App& program, int& exit_code);
void add_picks(CLI::App& program, int& exit_code);
void add_report(CLI::App& program, int& exit_code);
void add_mount(CLI::App& program, int& exit_code);
void add_image(CLI::App& program, int& exit_code);
void add_kinds(CLI::App& program, int& exit_code);
void add_config(CLI::App& program, int& exit_code);
void add_guide(CLI::App& program, int& exit_code);
void add_stick(CLI::App& program, int& exit_code);
void add_demo(CLI::App& program, int& exit_code);

// The program with all its commands. Whoever parses words with it gets the exit code of the command that ran.
std::unique_ptr<CLI::App> make_program(int& exit_code);

// Runs the program with these words behind its name.
enum class Heeds { settings, words_alone };
int run(const std::vector<std::string>& arguments, Heeds heeds = Heeds::settings);
// The same with the command shown before it, as it can be pasted.
int run_shown(const std::vector<std::string>& words);

}  // namespace dredger::cli
