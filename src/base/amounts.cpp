#include "base/amounts.h"

#include <fmt/format.h>
#include <iterator>

namespace dredger {

std::string count_text(std::uint64_t count) {
    const std::string digits = std::to_string(count);
    std::string text;
    for (std::size_t i = 0; i < digits.size(); ++i) {
        if (i > 0 && (digits.size() - i) % 3 == 0) text += ',';
        text += digits[i];
    }
    return text;
}

std::string size_text(std::uint64_t bytes) {
    if (bytes < 1024) return fmt::format("{} B", bytes);
    static constexpr const char* kUnits[] = {"KiB", "MiB", "GiB", "TiB", "PiB", "EiB"};
    double value = static_cast<double>(bytes) / 1024;
    std::size_t unit = 0;
    for (; value >= 1023.95 && unit + 1 < std::size(kUnits); ++unit) value /= 1024;
    return fmt::format("{:.1f} {}", value, kUnits[unit]);
}

}  // namespace dredger
