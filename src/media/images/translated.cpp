#include "media/images/translated.h"

#include <algorithm>
#include <boost/endian/conversion.hpp>
#include <fmt/format.h>

#include "base/checked.h"

namespace dredger {

Result<void> Translated::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    while (!into.empty()) {
        const auto found = place_of(offset);
        const std::uint64_t length = found ? found->length : unit_ - offset % unit_;
        const auto part = into.first(static_cast<std::size_t>(std::min<std::uint64_t>(into.size(), length)));
        if (found && found->on != nullptr && lies_within(found->offset, part.size(), found->on->size())) {
            std::vector<Extent> lost;
            DREDGER_CHECK(found->on->read(found->offset, part, &lost));
            for (const Extent& l : lost) bad.push_back({l.offset - found->offset + offset, l.length});
        } else if (found && found->unpacked != nullptr &&
                   lies_within(found->offset, part.size(), found->unpacked->size())) {
            std::copy_n(found->unpacked->begin() + static_cast<std::ptrdiff_t>(found->offset), part.size(),
                        part.begin());
        } else {
            std::fill(part.begin(), part.end(), std::byte{0});
            const bool is_zeros = found && found->on == nullptr && found->unpacked == nullptr;
            if (!is_zeros) bad.push_back({offset, part.size()});
        }
        into = into.subspan(part.size());
        offset += part.size();
    }
    return {};
}

std::uint64_t Translated::zeros_from(std::uint64_t offset) const {
    const auto found = offset < size_ ? place_of(offset) : Place{};
    if (!found || found->unpacked != nullptr) return 0;
    if (found->on == nullptr) return found->length;
    return std::min(found->length, found->on->zeros_from(found->offset));
}

void Translated::expect(std::uint64_t offset, std::uint64_t length) const {
    const std::uint64_t end = std::min(size_, checked_add(offset, length).value_or(size_));
    while (offset < end) {
        const auto found = place_of(offset);
        const std::uint64_t part = std::min(end - offset, found ? found->length : unit_ - offset % unit_);
        if (found && found->on != nullptr && lies_within(found->offset, part, found->on->size()))
            found->on->expect(found->offset, part);
        offset += part;
    }
}

void Translated::add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const {
    const std::uint64_t end = std::min(size_, checked_add(offset, length).value_or(size_));
    while (offset < end) {
        const auto found = place_of(offset);
        const std::uint64_t part = std::min(end - offset, found ? found->length : unit_ - offset % unit_);
        if (!found) {
            bad.push_back({offset, part});
        } else if (found->on != nullptr) {
            std::vector<Extent> below;
            found->on->add_known_bad(found->offset, part, below);
            for (const Extent& b : below) bad.push_back({b.offset - found->offset + offset, b.length});
        }
        offset += part;
    }
}

Result<std::uint64_t> NumberTable::at(std::uint64_t index) const {
    constexpr std::uint64_t kPart = 64 << 10;  // bytes
    if (index >= count_)
        return fail(ErrorKind::not_understood, fmt::format("entry {} lies past the end of a table", index),
                    file_->name());
    const std::uint64_t byte = index * width_;
    const std::uint64_t part = byte / kPart;
    DREDGER_TRY(const auto bytes, parts_.get(part, [&]() -> Result<std::vector<std::byte>> {
        const std::uint64_t length = std::min(kPart, count_ * width_ - part * kPart);
        const auto start = checked_add(offset_, part * kPart);
        if (!start) return fail(ErrorKind::not_understood, "a table lies past the end of the file", file_->name());
        return file_->bytes(*start, static_cast<std::size_t>(length));
    }));
    const std::byte* at = bytes->data() + byte % kPart;
    const auto* raw = reinterpret_cast<const unsigned char*>(at);
    using boost::endian::load_big_u32, boost::endian::load_big_u64;
    using boost::endian::load_little_u32, boost::endian::load_little_u64;
    if (width_ == 4) return endian_ == Endian::big ? load_big_u32(raw) : load_little_u32(raw);
    return endian_ == Endian::big ? load_big_u64(raw) : load_little_u64(raw);
}

}  // namespace dredger
