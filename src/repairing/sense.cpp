#include "repairing/sense.h"

#include "formats/bytes_of_content.h"

namespace dredger::repairing {
namespace {

// Where the run of zeros begins that is the first to be enough, by where it ends so far and how long it is.
template <class IsEnough>
std::optional<std::uint64_t> first_zeros(Reader& content, std::uint64_t from, std::uint64_t to,
                                         const IsEnough& is_enough) {
    std::uint64_t at = from, run = 0;
    std::optional<std::uint64_t> found;
    formats::each_span(content, from, to - std::min(from, to), [&](std::span<const std::byte> bytes) {
        for (const std::byte b : bytes) {
            if (found) return;
            run = b == std::byte{0} ? run + 1 : 0;
            if (is_enough(++at, run)) found = at - run;
        }
    });
    return found;
}

}  // namespace

void SenseOfText::add(std::span<const std::byte> bytes) {
    for (const std::byte b : bytes) {
        const auto byte = std::to_integer<unsigned>(b);
        ++size_;
        if (!is_text_ || is_over_) continue;
        const bool is_right = following_ > 0 ? (byte & 0xC0U) == 0x80
                              : byte < 0x80  ? byte >= 0x20 || byte == '\n' || byte == '\r' || byte == '\t'
                                             : byte >= 0xC2 && byte < 0xF5;
        if (!is_right) {
            is_text_ = size_ > kHead;
            is_over_ = true;
            continue;
        }
        following_ = following_ > 0 ? following_ - 1 : byte < 0xC0 ? 0 : byte < 0xE0 ? 1 : byte < 0xF0 ? 2 : 3;
        if (following_ == 0) sensible_ = size_;
    }
}

std::optional<std::uint64_t> first_run_of_zeros(Reader& content, std::uint64_t from, std::uint64_t to) {
    constexpr std::uint64_t kRun = 128;  // bytes: packed data has none that long
    return first_zeros(content, from, to, [](std::uint64_t, std::uint64_t run) { return run == kRun; });
}

std::optional<std::uint64_t> first_sector_of_zeros(Reader& content, std::uint64_t from, std::uint64_t to) {
    constexpr std::uint64_t kSector = 512;  // bytes
    return first_zeros(content, from, to,
                       [](std::uint64_t end, std::uint64_t run) { return end % kSector == 0 && run >= kSector; });
}

}  // namespace dredger::repairing
