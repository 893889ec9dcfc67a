#include "cli/settings.h"

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fmt/format.h>
#include <toml++/toml.h>

namespace dredger::cli {
namespace {

namespace fs = std::filesystem;

fs::path settings_file() {
    if (const char* named = std::getenv("DREDGER_CONFIG"); named != nullptr) return named;
    if (const char* folder = std::getenv("XDG_CONFIG_HOME"); folder != nullptr && *folder != '\0')
        return fs::path(folder) / "dredger" / "config.toml";
    if (const char* home = std::getenv("HOME"); home != nullptr) return fs::path(home) / ".config/dredger/config.toml";
    return {};
}

tl::unexpected<Error> wrong(const fs::path& file, const toml::source_region& where, const std::string& what) {
    return fail(ErrorKind::usage, what, fmt::format("{}, line {}", file.string(), where.begin.line),
                "docs/settings.md says what may stand there");
}

}  // namespace

Result<void> take_settings(Manner& manner) {
    const fs::path file = settings_file();
    std::error_code failed;
    if (file.empty() || !fs::exists(file, failed)) return {};
    toml::table table;
    try {
        table = toml::parse_file(file.string());
    } catch (const toml::parse_error& error) {
        return wrong(file, error.source(), std::string(error.description()));
    }
    for (const auto& [key, value] : table) {
        const auto is_on = value.value_exact<bool>();
        const auto word = value.value_exact<std::string>();
        if (key == "color") {
            if (!word || std::find(std::begin(kColourWords), std::end(kColourWords), *word) == std::end(kColourWords))
                return wrong(file, value.source(), fmt::format("color is one of {}", fmt::join(kColourWords, ", ")));
            manner.colour = *word;
        } else if (key == "pager" || key == "utc") {
            if (!is_on) return wrong(file, value.source(), fmt::format("{} is true or false", key.str()));
            if (key == "pager") manner.pages = *is_on;
            if (key == "utc" && *is_on) (void)::setenv("TZ", "UTC0", 1);
        } else {
            return wrong(file, value.source(), fmt::format("nothing is known of {}", key.str()));
        }
    }
    return {};
}

}  // namespace dredger::cli
