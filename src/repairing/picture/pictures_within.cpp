#include "repairing/picture/pictures_within.h"

#include "formats/format.h"

namespace dredger::repairing {

using namespace std::string_view_literals;

std::vector<Extent> pictures_in(const Damaged& file, const Workbench& bench, std::string_view format,
                                std::uint64_t least) {
    constexpr std::size_t kMost = 1000;
    constexpr unsigned kMostTried = 4096;
    const std::string_view mark = format == "png" ? "\x89PNG\r\n"sv : "\xFF\xD8\xFF"sv;
    std::vector<Extent> pictures;
    Budget budget = bench.budget();
    Reader content(*file.content, budget);
    std::uint64_t at = 0;
    for (unsigned tried = 0; tried < kMostTried && pictures.size() < kMost && !bench.should_stop(); ++tried) {
        const auto found = content.find(mark, at, content.size());
        if (!found) break;
        Budget for_one = bench.budget();
        Reader whole(*file.content, for_one);
        Reader there = whole.within(*found);
        const Measured picture = measure(*format_named(format), there);
        const bool is_good =
            picture.is_whole() && picture.length >= least && !file.touches_hole(*found, picture.length);
        if (is_good) pictures.push_back({*found, picture.length});
        at = *found + (is_good ? picture.length : 1);
    }
    return pictures;
}

}  // namespace dredger::repairing
