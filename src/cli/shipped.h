// What comes with the program: beside it when it is built, below share/ where it is installed.
#pragma once

#include <filesystem>
#include <initializer_list>

namespace dredger::cli {

// Of these places, which count from the program's folder, the first that there is; empty: none.
std::filesystem::path shipped(std::initializer_list<std::filesystem::path> places);

}  // namespace dredger::cli
