#include "media/medium.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/checked.h"

namespace dredger {

Result<void> Medium::read(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>* bad) const {
    if (!lies_within(offset, into.size(), size()))
        return fail(ErrorKind::unreadable, fmt::format("{} bytes reach past the end of {}", into.size(), name()),
                    fmt::format("offset {}", offset), "the medium or image may be cut short");
    std::vector<Extent> found;
    DREDGER_CHECK(read_within(offset, into, found));
    if (found.empty()) return {};
    if (bad == nullptr)
        return fail(ErrorKind::unreadable, fmt::format("{} bytes can't be read from {}", found.front().length, name()),
                    fmt::format("offset {}", found.front().offset), "the medium has bad areas");
    bad->insert(bad->end(), found.begin(), found.end());
    return {};
}

bool Medium::try_read(std::uint64_t offset, std::span<std::byte> into) const {
    std::vector<Extent> bad;
    return lies_within(offset, into.size(), size()) && read_within(offset, into, bad) && bad.empty();
}

bool Medium::answers_at(std::uint64_t offset) const {
    std::vector<std::byte> sector(sector_size());
    const std::uint64_t begin = offset / sector.size() * sector.size();
    if (begin >= size()) return false;
    return try_read(begin, std::span(sector).first(std::min<std::uint64_t>(sector.size(), size() - begin)));
}

Result<std::vector<std::byte>> Medium::bytes(std::uint64_t offset, std::size_t length) const {
    if (!lies_within(offset, length, size()))
        return fail(ErrorKind::unreadable, fmt::format("{} bytes reach past the end of {}", length, name()),
                    fmt::format("offset {}", offset));
    std::vector<std::byte> out(length);
    DREDGER_CHECK(read(offset, out));
    return out;
}

}  // namespace dredger
