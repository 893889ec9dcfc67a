// What a technician wants of every run, from files: config.toml in the folder dredger of the user's configuration (XDG
// Base Directory Specification), or the file that DREDGER_CONFIG names, and dredger.toml in the current folder, which
// goes before it. A key is the long name of an option; in a table of a command's name it is for that command, above all
// tables for every command that takes it. What the command line says goes before both.
#pragma once

#include <CLI/CLI.hpp>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "base/error.h"

namespace dredger::cli {

// What a file says of an option.
struct Setting {
    std::string command;              // "picks add"; empty: of every command that takes it
    std::string option;               // its long name
    std::vector<std::string> values;  // of a flag "true" or "false"
    std::filesystem::path file;
    unsigned line = 0;

    std::string where() const;
};

struct SettingsFile {
    std::filesystem::path path;
    bool exists = false;
    std::string refused;  // why it is not used; empty: it is
};

struct Settings {
    std::vector<SettingsFile> files;  // those that are looked at
    std::vector<Setting> all;         // in order: a later one of the same option goes before an earlier one

    // The one that holds for an option of a command, if any; `command` as in Setting.
    const Setting* holding(const std::string& command, const CLI::Option& option) const;
};

// Errors: what can't stand in such a file, with its line.
Result<Settings> read_settings(const CLI::App& program);

// The words of a command line with those of the settings put in, as far as the command takes them and the line does not
// say otherwise.
std::vector<std::string> with_settings(const std::vector<std::string>& words, const CLI::App& program,
                                       const Settings& settings);

// Whether an option has to be said each time: it lets a command do what can destroy what is looked for, or asks how the
// program is used.
bool is_said_each_time(const CLI::Option& option);

}  // namespace dredger::cli
