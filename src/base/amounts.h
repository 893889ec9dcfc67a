// Numbers as people read them.
#pragma once

#include <cstdint>
#include <string>

namespace dredger {

std::string count_text(std::uint64_t count);  // "12,345"
std::string size_text(std::uint64_t bytes);   // "11.2 KiB"

}  // namespace dredger
