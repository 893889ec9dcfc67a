// Text of some length, and the same packed: words that come again, numbers that don't.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

namespace dredger::test {

std::string ringing_log(unsigned seed, std::size_t lines);
std::vector<std::byte> gzipped(const std::string& text);

}  // namespace dredger::test
