#include "cli/content_bar.h"

#include <algorithm>
#include <fmt/format.h>

#include "cli/terminal.h"

namespace dredger::cli {
namespace {

struct Look {
    const char* cell;
    Style style;
    const char* meaning;
};

// Told apart by their shapes, for who sees no colour.
Look look_of(Part part) {
    switch (part) {
        case Part::free: return {"━", Style::good, "not taken over"};
        case Part::claimed: return {"┅", Style::fair, "claimed by another deleted file"};
        case Part::taken: return {"×", Style::bad, "taken over by a file that is there"};
        case Part::zeros: return {"╌", Style::dim, "zeros that are not stored"};
        case Part::hole: return {"○", Style::bad, "lost"};
        case Part::unreadable: break;
    }
    return {"▒", Style::unreadable, "can't be read"};
}

}  // namespace

std::vector<Part> parts_of(const Candidate& candidate, const std::vector<Catalog::Overlap>& overlaps,
                           const Coverage& bad, std::size_t cells) {
    const auto& extents = candidate.layout.extents;
    std::uint64_t size = 0;
    for (const Extent& extent : extents) size += extent.length;
    std::vector<Part> parts(cells, Part::free);
    if (size == 0) return parts;
    const auto mark = [&](std::uint64_t from, std::uint64_t length, Part part) {
        if (length == 0) return;
        const auto cell = [&](std::uint64_t at) {
            return static_cast<std::size_t>(static_cast<double>(at) / static_cast<double>(size) *
                                            static_cast<double>(cells));
        };
        for (std::size_t i = cell(from); i <= std::min(cell(from + length - 1), cells - 1); ++i)
            parts[i] = std::max(parts[i], part);
    };
    std::vector<std::uint64_t> starts;
    std::uint64_t at = 0;
    for (const Extent& extent : extents) {
        starts.push_back(at);
        if (!extent.is_stored()) mark(at, extent.length, extent.is_zeros() ? Part::zeros : Part::hole);
        if (extent.is_stored())
            for (const Extent& area : bad.within(extent.offset, extent.length))
                mark(at + (area.offset - extent.offset), area.length, Part::unreadable);
        at += extent.length;
    }
    // What is still there holds its own clusters, whoever else laid claim to them.
    const State state = candidate.record.state;
    if (state == State::live || state == State::trashed) return parts;
    for (const Catalog::Overlap& other : overlaps)
        if (!other.is_same_file)
            mark(starts[other.piece] + (other.shared.offset - extents[other.piece].offset), other.shared.length,
                 other.state == State::live || other.state == State::trashed ? Part::taken : Part::claimed);
    return parts;
}

std::string content_bar(const std::vector<Part>& parts) {
    std::string bar;
    for (std::size_t from = 0; from < parts.size();) {
        std::size_t to = from;
        std::string run;
        for (; to < parts.size() && parts[to] == parts[from]; ++to) run += look_of(parts[from]).cell;
        bar += styled(run, look_of(parts[from]).style);
        from = to;
    }
    std::vector<std::string> legend;
    for (const Part part : {Part::free, Part::claimed, Part::taken, Part::zeros, Part::hole, Part::unreadable})
        if (std::find(parts.begin(), parts.end(), part) != parts.end())
            legend.push_back(
                fmt::format("{} {}", styled(look_of(part).cell, look_of(part).style), look_of(part).meaning));
    return fmt::format("  {}\n  {}\n", bar, fmt::join(legend, "   "));
}

}  // namespace dredger::cli
