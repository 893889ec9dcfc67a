// What is done with bytes that nobody vouches for, one target a seam. None of them may crash, hang or leak, whatever
// the bytes are.
#pragma once

#include <cstddef>
#include <span>
#include <string_view>

namespace dredger::fuzz {

struct Target {
    std::string_view name;
    void (*run)(std::span<const std::byte> bytes);
};

std::span<const Target> targets();

}  // namespace dredger::fuzz
